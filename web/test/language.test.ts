import { describe, expect, it, vi } from 'vitest'

import de from '../src/language/de.json'
import en from '../src/language/en.json'
import { cause, i18n } from '../src/language'

type Catalogue = { [key: string]: string | Catalogue }

function flat(of: Catalogue, before = ''): Record<string, string> {
  return Object.fromEntries(
    Object.entries(of).flatMap(([key, value]) => (typeof value === 'string' ? [[before + key, value]] : Object.entries(flat(value, `${before}${key}.`)))),
  )
}

const sources = import.meta.glob<string>('../src/**/*.{vue,ts}', { query: '?raw', import: 'default', eager: true })

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
    expect(Object.keys(sources).length).toBeGreaterThan(50)
    for (const [file, text] of Object.entries(sources)) {
      for (const m of text.matchAll(/(?<![\w.])(?:t|say)\('([^']+)'/g)) expect(english, `${file}: ${m[1]}`).toHaveProperty([m[1] ?? ''])
    }
  })
})

describe('what findings say', () => {
  it('is said in the language of the console', async () => {
    const silent = { sentence: 'unit-silent', with: { unit: 3 }, cause: 'Unit 3 does not answer.' }
    expect(cause(silent)).toBe('Unit 3 does not answer.')
    i18n.global.locale.value = 'de'
    await vi.waitFor(() => expect(cause(silent)).toBe('Unit 3 antwortet nicht.'))
    expect(cause({ sentence: 'of a later service', with: {}, cause: 'As it is.' })).toBe('As it is.')
    i18n.global.locale.value = 'en'
    await vi.waitFor(() => expect(cause(silent)).toBe('Unit 3 does not answer.'))
  })
})
