import { describe, expect, it } from 'vitest'

import { changedFields, conflicts, words } from '../src/composables/conflict'

describe('changedFields', () => {
  it('gives what differs, and takes empty, null and absent for the same default', () => {
    const began = { tag: 'a', unit: '', decimals: null, poll: '1s', scaling: { raw: [0, 1] } }
    expect(changedFields(began, { tag: 'a', unit: undefined, decimals: '', poll: '1s', scaling: { raw: [0, 1] } })).toEqual({})
    expect(changedFields(began, { tag: 'a', unit: 'A', decimals: 0, poll: '', scaling: null })).toEqual({ unit: 'A', decimals: 0, poll: '', scaling: null })
  })
})

describe('conflicts', () => {
  const before = { unit: 'A', decimals: 1, description: 'x' }
  it('are fields that both changed to something else', () => {
    expect(conflicts({ unit: 'kA' }, before, { ...before, unit: 'V' })).toEqual([{ field: 'unit', was: 'A', theirs: 'V', mine: 'kA' }])
  })
  it('are not fields that one of them changed, or both to the same', () => {
    expect(conflicts({ unit: 'kA' }, before, { ...before, decimals: 2 })).toEqual([])
    expect(conflicts({ unit: 'kA' }, before, { ...before, unit: 'kA' })).toEqual([])
    expect(conflicts({ description: '' }, before, { unit: 'A', decimals: 1 })).toEqual([])
  })
  it('are told of when one of them took the default', () => {
    expect(conflicts({ decimals: 3 }, before, { unit: 'A', description: 'x' })).toEqual([{ field: 'decimals', was: 1, theirs: undefined, mine: 3 }])
  })
})

describe('words', () => {
  it('shows a value as a person reads it', () => {
    expect([words(undefined), words(''), words('1s'), words(0), words({ raw: [0, 1] })]).toEqual(['default', 'default', '1s', '0', '{"raw":[0,1]}'])
  })
})
