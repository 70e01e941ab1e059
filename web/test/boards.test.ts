import { describe, expect, it } from 'vitest'

import type { Display } from '../src/pages/boards/display'
import { merge } from '../src/pages/boards/merge'

const d = (tag: string, x: number, y: number, more: Partial<Display> = {}): Display => ({ show: 'figure', tag, x, y, w: 4, h: 3, ...more })

describe('two people at one board', () => {
  const before = [d('a', 0, 0), d('b', 4, 0), d('c', 8, 0)]

  it('keeps what each of them did', () => {
    const theirs = [d('a', 0, 6), d('b', 4, 0), d('c', 8, 0), d('new', 12, 0)]
    const mine = [d('a', 0, 0, { show: 'gauge' }), d('c', 8, 0), d('other', 12, 0)]
    const { displays, conflicts } = merge(before, theirs, mine)
    expect(conflicts).toEqual([])
    expect(displays.map((x) => x.tag)).toEqual(['a', 'c', 'new', 'other'])
    expect(displays[0]).toEqual(d('a', 0, 6, { show: 'gauge' }))
    expect(displays[3]).not.toMatchObject({ x: 12, y: 0 }) // where the other one put something
  })
  it('says what both changed in different ways', () => {
    const { displays, conflicts } = merge(before, [d('a', 0, 6), ...before.slice(1)], [d('a', 0, 9), ...before.slice(1)])
    expect(displays[0]).toEqual(d('a', 0, 9))
    expect(conflicts).toEqual([{ display: 'a', field: 'y', theirs: 6, mine: 9 }])
  })
  it('loses nothing that one took away and the other works on', () => {
    const { displays, conflicts } = merge(before, before.slice(1), [d('a', 0, 9), ...before.slice(1)])
    expect(displays).toContainEqual(d('a', 0, 9))
    expect(conflicts).toMatchObject([{ display: 'a' }])
    expect(merge(before, before.slice(1), before.slice(0, 2)).displays.map((x) => x.tag)).toEqual(['b'])
  })
  it('has once what both added alike, and of several alike each', () => {
    const twins = [d('a', 0, 0), d('a', 0, 3)]
    expect(merge([], [d('n', 0, 0)], [d('n', 0, 0)]).displays).toHaveLength(1)
    expect(merge(twins, [d('a', 0, 0), d('a', 9, 3)], twins).displays).toEqual([d('a', 0, 0), d('a', 9, 3)])
  })
  it('is what one did when the other did nothing, whatever that is', () => {
    let seed = 1
    const random = (n: number) => (seed = (seed * 48271) % 2147483647) % n
    const change = (list: Display[]) => {
      const out = list.map((x) => ({ ...x }))
      for (let n = random(4); n > 0; n--) {
        const i = random(out.length || 1)
        if (random(3) === 0 || out.length === 0) out.push(d(`n${random(1000)}`, random(20), 30 + random(300)))
        else if (random(3) === 0) out.splice(i, 1)
        else out[i] = { ...out[i]!, x: random(20), y: random(300) }
      }
      return out
    }
    const sorted = (list: Display[]) => list.map((x) => JSON.stringify(x, ['show', 'tag', 'x', 'y', 'w', 'h'])).sort()
    for (let i = 0; i < 500; i++) {
      const start = change(change([d('a', 0, 0), d('b', 4, 0), d('c', 8, 0)]))
      const now = change(start)
      expect(sorted(merge(start, now, start).displays)).toEqual(sorted(now))
      expect(merge(start, now, start).conflicts).toEqual([])
      expect(sorted(merge(start, start, now).displays).length).toBe(now.length)
      const other = change(start)
      const both = merge(start, now, other)
      if (both.conflicts.length === 0) for (const x of now.filter((x) => !start.some((s) => s.tag === x.tag))) expect(both.displays.map((y) => y.tag)).toContain(x.tag)
    }
  })
})
