import { describe, expect, it } from 'vitest'

import { News } from '../src/composables/news'

const set = (count: number, ...changes: [string, string][]) => ({ id: 1, who: 'ann', time: '', count, changes: changes.map(([kind, name]) => ({ kind, name, action: 'modify' })) }) as never

describe('news', () => {
  it('tells what was changed', () => {
    const news = new News([set(2, ['link', 'gate'], ['point', 'a/b'])])
    expect(news.touches('link')).toBe(true)
    expect(news.touches('station')).toBe(false)
    expect(news.touches('point', 'a/b')).toBe(true)
    expect(news.touches('point', 'a/c')).toBe(false)
  })
  it('may be of anything where not all changes of a set are told, or the connection was lost', () => {
    expect(new News([set(300, ['station', 'plc'])]).touches('point', 'a/b')).toBe(true)
    expect(new News([set(300)]).touches('board')).toBe(true)
    expect(new News([], true).touches('point')).toBe(true)
    expect(new News([]).touches('point')).toBe(false)
  })
})
