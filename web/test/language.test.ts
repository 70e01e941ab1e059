import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'

import { describe, expect, it } from 'vitest'

import de from '../src/language/de.json'
import en from '../src/language/en.json'

type Catalogue = { [key: string]: string | Catalogue }

function flat(of: Catalogue, before = ''): Record<string, string> {
  return Object.fromEntries(
    Object.entries(of).flatMap(([key, value]) => (typeof value === 'string' ? [[before + key, value]] : Object.entries(flat(value, `${before}${key}.`)))),
  )
}

function files(dir: string): string[] {
  return readdirSync(dir, { withFileTypes: true }).flatMap((f) => (f.isDirectory() ? files(join(dir, f.name)) : /\.(vue|ts)$/.test(f.name) ? [join(dir, f.name)] : []))
}

describe('the catalogue', () => {
  const english = flat(en)
  const german = flat(de)
  it('says everything in every language', () => {
    expect(Object.keys(german).sort()).toEqual(Object.keys(english).sort())
  })
  it('names the same things in every language', () => {
    const names = (text: string) => [...text.matchAll(/\{(\w+)\}/g)].map((m) => m[1]).sort()
    for (const [key, text] of Object.entries(english)) expect(names(german[key] ?? ''), key).toEqual(names(text))
  })
  it('has every text that is asked for by its name', () => {
    for (const file of files(join(__dirname, '../src'))) {
      for (const m of readFileSync(file, 'utf8').matchAll(/(?<![\w.])(?:t|say)\('([^']+)'/g)) expect(english, `${file}: ${m[1]}`).toHaveProperty([m[1] ?? ''])
    }
  })
})
