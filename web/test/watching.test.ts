import { describe, expect, it } from 'vitest'

import type { Plot, Point } from '../src/api/client'
import { namesOf, place, rangeOf as scaleOf, suits, type Display } from '../src/pages/boards/display'
import { rangeOf, shown, strokeOf, valueAt, type Curve } from '../src/pages/trends/scale'

const curve = (times: number[], last: (number | null)[], more: Partial<Curve> = {}): Curve => ({ tag: 'a', unit: 'm', times, least: last, most: last, last, bad: times.map(() => 0), count: times.length, before: null, live: true, ...more })
const plot = (gaps: [number, number][] = []): Plot => ({ from: '1970-01-01T00:00:00Z', to: '1970-01-01T00:01:40Z', step: 1000, series: [], faults: [], gaps: gaps.map(([from, to]) => ({ from: new Date(from).toISOString(), to: new Date(to).toISOString(), why: 'stopped' as const })) })

describe('what a curve shows at a moment', () => {
  const c = curve([10_000, 20_000, 30_000], [1, null, 3])
  it.each([
    [5_000, undefined, 'nothing was known yet'],
    [10_000, 1, 'from the moment on'],
    [19_999, 1, 'until the next'],
    [25_000, null, 'it was bad'],
    [90_000, 3, 'the last one holds'],
  ])('%i: %s, since %s', (at, value, _why) => expect(valueAt(c, plot(), at)).toBe(value))
  it('holds what it was before the window', () => expect(valueAt(curve([10_000], [1], { before: 7 }), plot(), 5_000)).toBe(7))
  it('does not go on over a gap', () => {
    expect(valueAt(c, plot([[12_000, 18_000]]), 15_000)).toBeUndefined()
    expect(valueAt(c, plot([[12_000, 18_000]]), 19_000)).toBeUndefined()
    expect(valueAt(c, plot([[12_000, 18_000]]), 11_000)).toBe(1)
    expect(valueAt(c, plot([[12_000, 18_000]]), 31_000)).toBe(3)
  })
})

describe('scales', () => {
  it('leaves room at both ends, and some where nothing moves', () => {
    const [least, most] = rangeOf([curve([0, 1], [10, 20])])
    expect(least).toBeLessThan(10)
    expect(most).toBeGreaterThan(20)
    const [low, high] = rangeOf([curve([0], [5])])
    expect(high - low).toBeGreaterThan(0.5)
    expect(rangeOf([curve([], [])])).toEqual([0, 1])
  })
  it('tells many curves apart', () => expect(new Set(Array.from({ length: 24 }, (_, i) => JSON.stringify(strokeOf(i, false)))).size).toBe(24))
  it('says numbers as people read them', () => expect([shown(12.345678), shown(1e9), shown(null), shown(-0.00001)]).toEqual(['12.346', '1.000e+9', '–', '-1.000e-5']))
})

const point = (fields: Partial<Point>): Point => ({ tag: 'a', station: 's', address: 'hr:0', type: 'uint16', canonical: 'hr:0', meaning: '', ...fields }) as Point

describe('displays', () => {
  it.each([
    [{ type: 'bool' }, 'lamp'],
    [{ type: 'bool', writable: true }, 'switch'],
    [{ type: 'bool', writable: true, pulse: '3s' }, 'push'],
    [{ type: 'uint16', states: ['off', 'on', 'auto'], writable: true }, 'states'],
    [{ type: 'float32', range: [0, 5] }, 'gauge'],
    [{ type: 'float32', writable: true }, 'entry'],
    [{ type: 'float32' }, 'figure'],
    [{ type: 'string' }, 'figure'],
  ] as [Partial<Point>, string][])('%j is shown as a %s', (fields, show) => expect(suits(point(fields))[0]).toBe(show))
  it('offers nothing that writes for a point that may not be written', () => {
    for (const type of ['bool', 'float32', 'uint16', 'string'] as const) expect(suits(point({ type })).some((s) => ['switch', 'button', 'push', 'slider', 'entry', 'states'].includes(s))).toBe(false)
  })
  it('takes the ends of a scale from the point', () => {
    expect(scaleOf(point({ range: [0, 2.8] }), 1)).toEqual([0, 2.8])
    expect(scaleOf(point({ scaling: { raw: [0, 27648], eng: [100, 0] } }), 1)).toEqual([0, 100])
    expect(scaleOf(point({ unit: '%' }), 120)).toEqual([0, 100])
    expect(scaleOf(point({ limits: { high: 46 } }), 3)).toEqual([0, 60])
    expect(scaleOf(point({}), -7)[0]).toBeLessThanOrEqual(-7)
  })
  it('finds a free place, and never one that is taken', () => {
    const list: Display[] = []
    for (let i = 0; i < 40; i++) {
      const [w, h] = [3 + (i % 5), 2 + (i % 3)]
      const at = place(list, w, h)
      for (const d of list) expect(at.x < d.x + d.w && d.x < at.x + w && at.y < d.y + d.h && d.y < at.y + h).toBe(false)
      expect(at.x + w).toBeLessThanOrEqual(24)
      list.push({ show: 'figure', tag: String(i), w, h, ...at })
    }
  })
  it('names values, by list and by number', () => {
    expect(namesOf(point({ states: ['a', 'b'] }))).toEqual([[0, 'a'], [1, 'b']])
    expect(namesOf(point({ states: { '5': 'tripped' } }))).toEqual([[5, 'tripped']])
  })
})
