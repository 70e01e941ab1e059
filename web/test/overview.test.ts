import { describe, expect, it } from 'vitest'

import type { LinkStatus, StationStatus } from '../src/api/client'
import { rows } from '../src/pages/overview/rows'

const link = (name: string, state: string) => ({ name, state }) as LinkStatus
const station = (name: string, of: string, state: string, points: Partial<StationStatus['points']> = {}) => ({ name, link: of, state, points: { good: 0, uncertain: 0, bad: 0, ...points } }) as StationStatus

describe('the lines of the overview', () => {
  const links = [link('alder', 'up'), link('birch', 'down'), link('cedar', 'up'), link('dogwood', 'up')]
  const stations = [
    station('a1', 'alder', 'answering', { good: 4 }),
    station('b1', 'birch', 'silent', { bad: 2 }),
    station('c1', 'cedar', 'answering', { good: 1 }),
    station('c2', 'cedar', 'answering', { good: 1 }),
    station('d1', 'dogwood', 'answering', { good: 1 }),
    station('d2', 'dogwood', 'silent', { bad: 3 }),
  ]
  const keys = (filter = '', wrong = false, decided = {}) => rows(links, stations, filter, wrong, decided).map((r) => r.key)
  it('stand with the worst first, and a link with one station takes one', () => {
    expect(keys()).toEqual(['birch', 'dogwood', 'dogwood/d1', 'dogwood/d2', 'alder', 'cedar'])
  })
  it('are opened and closed as the person decides', () => {
    expect(keys('', false, { cedar: true, dogwood: false })).toEqual(['birch', 'dogwood', 'alder', 'cedar', 'cedar/c1', 'cedar/c2'])
  })
  it('are filtered by names and states, and by what is wrong', () => {
    expect(keys('c2')).toEqual(['cedar'])
    expect(keys('', true)).toEqual(['birch', 'dogwood', 'dogwood/d1', 'dogwood/d2'])
    expect(keys('nothing')).toEqual([])
  })
  it('sum up the points of a link', () => {
    expect(rows(links, stations, 'dogwood', false, { dogwood: false })[0]).toMatchObject({ good: 1, bad: 3, below: 2 })
  })
})
