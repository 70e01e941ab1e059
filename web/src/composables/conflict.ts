import { say } from '../language'

/** The fields of an entity, as the API has them. */
export type Fields = Record<string, unknown>

/** A field that two people changed at the same time. */
export interface Conflict {
  field: string
  was: unknown // when this person began
  theirs: unknown // what it is now
  mine: unknown // what this person wants it to be
  who?: string // made it what it is now
}

/** What is empty in a form and what is absent from an entity mean the same: the default. */
const normal = (value: unknown) => (value === '' || value === undefined ? null : value)
const same = (a: unknown, b: unknown) => JSON.stringify(normal(a)) === JSON.stringify(normal(b))

/** The fields in which what is to be saved differs from what the form began with. */
export function changedFields(began: Fields, now: Fields): Fields {
  const changed: Fields = {}
  for (const [field, value] of Object.entries(now)) {
    if (!same(began[field], value)) changed[field] = value
  }
  return changed
}

/** The changed fields that somebody else has changed meanwhile, to something else. */
export function conflicts(changed: Fields, before: Fields, now: Fields): Conflict[] {
  return Object.entries(changed)
    .filter(([field, mine]) => !same(before[field], now[field]) && !same(now[field], mine))
    .map(([field, mine]) => ({ field, was: before[field], theirs: now[field], mine }))
}

/** A value of a field in few words. */
export function words(value: unknown): string {
  const v = normal(value)
  if (v === null) return say('common.default')
  return typeof v === 'string' ? v : JSON.stringify(v)
}
