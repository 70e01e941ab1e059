import { describe, expect, it } from 'vitest'

import { meanings, nameOf, plausible } from '../src/pages/begin/values'

describe('what registers may mean', () => {
  const registers = [
    { address: 'hr:0', word: 0x41ac },
    { address: 'hr:1', word: 0 },
    { address: 'hr:2', word: 0xffff },
    { address: 'hr:3' },
  ]
  it('gives whole and floating-point numbers in both word orders', () => {
    expect(meanings(registers, 0)).toContainEqual({ address: 'hr:0', type: 'float32', order: 'ABCD', text: '21.5' })
    expect(meanings([{ address: 'hr:0', word: 0 }, { address: 'hr:1', word: 0x41ac }], 0)).toContainEqual({ address: 'hr:0', type: 'float32', order: 'CDAB', text: '21.5' })
  })
  it('shows a high number with its sign, too', () => {
    expect(meanings(registers, 2).map((m) => m.text)).toEqual(['65535', '-1'])
  })
  it('says nothing of what was not read', () => {
    expect(meanings(registers, 3)).toEqual([])
    expect(meanings(registers, 9)).toEqual([])
  })
  it('leaves out what no plant means', () => {
    expect(plausible(1e-30)).toBe(false)
    expect(plausible(NaN)).toBe(false)
    expect(plausible(-12.5)).toBe(true)
  })
})

describe('names made of what was typed', () => {
  it('are such as can be', () => {
    expect(nameOf('192.0.2.7')).toBe('192.0.2.7')
    expect(nameOf(' pump house: 1 ')).toBe('pump-house-1')
    expect(nameOf('///')).toBe('device')
  })
})
