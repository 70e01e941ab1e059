import { describe, expect, it } from 'vitest'

import { Draft, pasted } from '../src/pages/points/sheet/draft'
import { nextAddress, series, width } from '../src/pages/points/sheet/series'

const list = () => [
  ['tag', 'station', 'address', 'type', 'unit', '_tag', '_version'],
  ...Array.from({ length: 5 }, (_, i) => [`a/p${i}`, 'plc', `hr:${i}`, 'int16', 'A', `a/p${i}`, '1']),
]

describe('series', () => {
  const rows = (...texts: string[]) => texts.map((address) => ({ address, type: 'float32', length: '' }))
  it('advances addresses by the width of the type', () => {
    expect(series('address', rows('hr:10'), rows('', '', ''))).toEqual(['hr:12', 'hr:14', 'hr:16'])
    expect(series('address', [{ address: '40010', type: 'int16', length: '' }], [{ type: 'float64' }, { type: 'int16' }, { type: 'int16' }] as never)).toEqual(['40011', '40015', '40016'])
    expect(series('address', rows('hr:10', 'hr:20'), rows('', ''))).toEqual(['hr:30', 'hr:40'])
    expect(series('address', [{ address: 'co:7', type: 'bool', length: '' }], [{}, {}] as never)).toEqual(['co:8', 'co:9'])
    expect(nextAddress('hr:9.14', 1)).toBe('hr:9.15')
    expect(nextAddress('hr:9.15', 1)).toBe('hr:10.0')
    expect(nextAddress('hr:0x30FE', 2)).toBe('hr:0x3100')
    expect(nextAddress('40099', 1)).toBe('40100')
    expect(width('hr:0', 'string', '9')).toBe(5)
  })
  it('counts names up', () => {
    const tags = (...texts: string[]) => texts.map((tag) => ({ tag }))
    expect(series('tag', tags('tank1/level'), tags('', ''))).toEqual(['tank2/level', 'tank3/level'])
    expect(series('tag', tags('p08'), tags('', '', ''))).toEqual(['p09', 'p10', 'p11'])
    expect(series('tag', tags('p2', 'p4'), tags('', ''))).toEqual(['p6', 'p8'])
    expect(series('tag', tags('pump1/current', 'pump1/power'), tags('', '', '', ''))).toEqual(['pump2/current', 'pump2/power', 'pump3/current', 'pump3/power'])
    expect(series('tag', tags('level'), tags(''))).toEqual(['level'])
  })
  it('repeats texts, and goes on with the step of several numbers', () => {
    expect(series('unit', [{ unit: 'A' }], [{}, {}] as never)).toEqual(['A', 'A'])
    expect(series('decimals', [{ decimals: '1' }], [{}] as never)).toEqual(['1'])
    expect(series('length', [{ length: '2' }, { length: '5' }], [{}, {}] as never)).toEqual(['8', '11'])
    expect(series('x', [{ x: '0.1' }, { x: '0.2' }], [{}] as never)).toEqual(['0.3'])
  })
})

describe('draft', () => {
  it('holds what was typed, with what was there', () => {
    const d = new Draft(['tag', 'station', 'address', 'type', 'unit'])
    d.load(list())
    d.set([{ row: d.rows[0]!, field: 'unit', text: 'mA' }, { row: d.rows[1]!, field: 'tag', text: 'b' }])
    d.turn([d.rows[2]!])
    const [fresh] = d.add(1)
    d.set([{ row: fresh!, field: 'tag', text: 'new' }])
    expect(d.edits().map((e) => e.edit)).toEqual([
      { tag: 'a/p0', cells: { unit: 'mA' }, was: { unit: 'A' } },
      { tag: 'a/p1', cells: { tag: 'b' }, was: { tag: 'a/p1' } },
      { tag: 'a/p2', remove: true },
      { cells: { tag: 'new' } },
    ])
    d.set([{ row: d.rows[0]!, field: 'unit', text: 'A' }])
    expect(d.edits()).toHaveLength(3) // as it was: nothing
  })
  it('undoes and does again every step, whatever was done', () => {
    for (let seed = 1; seed < 60; seed++) {
      let x = seed
      const random = (n: number) => (x = (x * 1103515245 + 12345) & 0x7fffffff) % n
      const d = new Draft(['tag', 'station', 'address', 'type', 'unit'])
      d.load(list())
      const look = () => JSON.stringify({ rows: d.rows.filter((r) => r._tag || !r._gone), edits: d.edits().map((e) => e.edit) })
      const states = [look()]
      for (let step = 0; step < 25; step++) {
        const rows = d.rows.filter((r) => !r._gone || r._tag)
        const row = rows[random(rows.length)]!
        switch (random(4)) {
          case 0:
            d.add(random(2) + 1)
            break
          case 1:
            d.turn([row])
            break
          default:
            d.set([{ row, field: ['tag', 'unit', 'address'][random(3)]!, text: `t${random(4)}` }, { row: rows[0]!, field: 'unit', text: `u${random(3)}` }])
        }
        if (look() !== states[states.length - 1]) states.push(look())
      }
      const after = [...states]
      let n = states.length
      while (d.canUndo) {
        d.undo()
        if (look() !== after[n - 1]) n--
        expect(look()).toBe(after[n - 1])
      }
      expect(look()).toBe(after[0])
      while (d.canRedo) d.redo()
      expect(look()).toBe(after[after.length - 1])
    }
  })
  it('survives a reload, and rows that came or went meanwhile', () => {
    const d = new Draft(['tag', 'station', 'address', 'type', 'unit'])
    d.load(list())
    d.set([{ row: d.rows[3]!, field: 'unit', text: 'mA' }])
    d.turn([d.rows[1]!])
    d.set([{ row: d.add(1)[0]!, field: 'tag', text: 'new' }])
    const text = d.store()
    const again = new Draft(['tag', 'station', 'address', 'type', 'unit'])
    again.load(list().filter((row) => row[0] !== 'a/p3').concat([['a/p9', 'plc', 'hr:9', 'int16', '', 'a/p9', '1']]))
    again.restore(Draft.stored(text))
    expect(again.edits().map((e) => e.edit)).toEqual([
      { tag: 'a/p1', remove: true },
      { tag: 'a/p3', cells: { unit: 'mA' }, was: { unit: 'A' } },
      { cells: { tag: 'new' } },
    ])
    expect(Draft.stored('nonsense')).toEqual([])
    expect(Draft.stored(null)).toEqual([])
    again.clear()
    expect(again.size).toBe(0)
  })
  it('loses nothing that is typed while it is saved', () => {
    const d = new Draft(['tag', 'station', 'address', 'type', 'unit'])
    d.load(list())
    const [row, gone] = d.rows
    d.set([{ row: row!, field: 'unit', text: 'mA' }, { row: row!, field: 'tag', text: 'b' }])
    d.turn([gone!])
    const fresh = d.add(1)[0]!
    d.set([{ row: fresh, field: 'tag', text: 'new' }])
    const sent = d.edits()
    d.set([{ row: row!, field: 'unit', text: 'kA' }, { row: fresh, field: 'unit', text: 'V' }]) // meanwhile
    d.saved(sent)
    expect(d.edits().map((e) => e.edit)).toEqual([
      { tag: 'b', cells: { unit: 'kA' }, was: { unit: 'mA' } },
      { tag: 'new', cells: { unit: 'V' }, was: { unit: '' } },
    ])
    const [head, ...rows] = list()
    d.load([head!, ['b', 'plc', 'hr:0', 'int16', 'mA', 'b', '2'], ...rows.slice(2), ['new', 'plc', 'hr:9', 'int16', '', 'new', '1']])
    expect(d.size).toBe(2)
  })
  it('takes more rows while one types', () => {
    const d = new Draft(['tag', 'unit'])
    const [head, ...rows] = list()
    d.load([head!, ...rows.slice(0, 2)])
    d.set([{ row: d.rows[1]!, field: 'unit', text: 'mA' }])
    d.set([{ row: d.add(1)[0]!, field: 'tag', text: 'new' }])
    d.more([['tag', '_tag'], ...rows.map((r) => [r[0]!, r[0]!])]) // without the columns in which nothing is
    expect(d.rows.map((r) => r._tag)).toEqual(['a/p0', 'a/p1', 'a/p2', 'a/p3', 'a/p4', ''])
    expect(d.edits().map((e) => e.edit)).toEqual([{ tag: 'a/p1', cells: { unit: 'mA' }, was: { unit: 'A' } }, { cells: { tag: 'new' } }])
    d.undo()
    d.undo()
    d.undo()
    expect(d.size).toBe(0)
    d.set([{ row: d.rows[4]!, field: 'unit', text: 'V' }])
    expect(d.edits()[0]!.edit).toEqual({ tag: 'a/p4', cells: { unit: 'V' }, was: { unit: '' } })
  })
  it('keeps what was typed when the site is loaded anew', () => {
    const d = new Draft(['tag', 'station', 'address', 'type', 'unit'])
    d.load(list())
    d.set([{ row: d.rows[0]!, field: 'unit', text: 'mA' }])
    d.load(list())
    expect(d.edits().map((e) => e.edit)).toEqual([{ tag: 'a/p0', cells: { unit: 'mA' }, was: { unit: 'A' } }])
    d.giveUp([{ row: d.rows[0]!, field: 'unit' }])
    expect(d.rows[0]!.unit).toBe('A')
  })
})

describe('draft beside others', () => {
  const fields = ['tag', 'station', 'unit']
  type Site = { tag: string; station: string; unit: string }[]
  const texts = (site: Site) => [[...fields, '_tag'], ...site.map((p) => [p.tag, p.station, p.unit, p.tag])]
  it('shows what the site has, and what was typed in the row it was typed into, whatever others do meanwhile', () => {
    for (let seed = 1; seed < 150; seed++) {
      let x = seed * 7919
      const random = (n: number) => ((x = (x * 1103515245 + 12345) & 0x7fffffff) >> 8) % n
      let site: Site = Array.from({ length: 5 }, (_, i) => ({ tag: `p${i}`, station: 'a', unit: 'A' }))
      const d = new Draft(fields)
      d.load(texts(site))
      let loaded = structuredClone(site)
      let held = d.rows[random(5)]! // as a cell that is being typed into holds its row
      const check = (what: string) => {
        const byTag = new Map(loaded.map((p) => [p.tag, p]))
        expect(new Set(d.rows.map((r) => r._key)).size, what).toBe(d.rows.length)
        for (const row of d.rows) {
          const p = byTag.get(row._tag)
          if (p) for (const f of fields) if (!d.isTyped(row, f)) expect(row[f], `${what} ${row._tag} ${f}`).toBe(p[f as 'tag'])
        }
        const known = d.rows.filter((r) => byTag.has(r._tag)).map((r) => r._tag)
        expect(known, what).toEqual(loaded.map((p) => p.tag))
      }
      for (let step = 0; step < 40; step++) {
        const what = `seed ${seed} step ${step}`
        switch (random(9)) {
          case 0:
            site = [...site, { tag: `p${random(30)}`, station: 'b', unit: 'V' }].filter((p, i, all) => all.findIndex((q) => q.tag === p.tag) === i).sort((a, b) => (a.tag < b.tag ? -1 : 1))
            break
          case 1:
            if (site.length > 1) site = site.filter((_, i) => i !== random(site.length))
            break
          case 2:
            if (site.length > 0) site[random(site.length)]!.unit = `u${random(4)}`
            break
          case 3:
            d.load(texts(site))
            loaded = structuredClone(site)
            break
          case 4: {
            const text = `t${random(5)}`
            const others = d.edits().filter((e) => e.row !== held).map((e) => e.edit)
            const shown = held.unit
            d.set([{ row: held, field: 'unit', text }])
            expect(held.unit, what).toBe(text)
            expect(d.edits().filter((e) => e.row !== held).map((e) => e.edit), what).toEqual(others)
            if (shown !== text && !held._gone && (!held._tag || text !== loaded.find((p) => p.tag === held._tag)?.unit)) expect(d.edits().find((e) => e.row === held)?.edit.cells?.unit, what).toBe(text)
            break
          }
          case 5:
            if (d.rows.length > 0) held = d.rows[random(d.rows.length)]!
            break
          case 6:
            d.undo()
            break
          case 7:
            d.redo()
            break
          default:
            if (random(3) === 0) d.turn([d.rows[random(d.rows.length)] ?? d.add(1)[0]!])
            else d.add(1)
        }
        check(what)
      }
      d.clear()
      check(`seed ${seed}, given up`)
      expect(d.size).toBe(0)
    }
  })
  it('keeps the steps that can be undone, until the site has something else there', () => {
    const site: Site = [{ tag: 'b', station: 'a', unit: 'A' }]
    const d = new Draft(fields)
    d.load(texts(site))
    const row = d.rows[0]!
    d.set([{ row, field: 'unit', text: 'mA' }])
    d.load(texts([{ tag: 'a', station: 'a', unit: 'V' }, ...site])) // a row came before it
    expect(d.rows[1]).toBe(row)
    d.undo()
    expect([d.rows[0]!.unit, d.rows[1]!.unit, d.size]).toEqual(['V', 'A', 0])
    d.redo()
    expect(row.unit).toBe('mA')
    d.load(texts([{ tag: 'b', station: 'a', unit: 'kA' }]))
    expect([d.canUndo, row.unit, d.edits()[0]!.edit.was]).toEqual([false, 'mA', { unit: 'A' }])
    d.clear()
    expect(d.rows[0]!.unit).toBe('kA')
  })
})

describe('what a spreadsheet program copies', () => {
  it('is read cell by cell', () => {
    expect(pasted('a\tb\r\nc\t\r\n')).toEqual([['a', 'b'], ['c', '']])
    expect(pasted('"two\nlines"\t"with ""quotes"""')).toEqual([['two lines', 'with "quotes"']])
    expect(pasted('one')).toEqual([['one']])
    expect(pasted('5" pipe\tx')).toEqual([['5" pipe', 'x']])
  })
})
