import { describe, expect, it } from 'vitest'

import type { Link, Reading } from '../src/api/client'
import { farEnd, raw, scalingText } from '../src/format'
import { readCodes, readStates, writeStates } from '../src/pages/points/states'
import { age, length, moment, stamp, time } from '../src/time'

describe('age', () => {
  const now = Date.parse('2026-05-01T12:00:00Z')
  it.each([
    [undefined, 'never'],
    ['2026-05-01T11:59:58.5Z', '1.5 s'],
    ['2026-05-01T11:59:15Z', '45 s'],
    ['2026-05-01T11:55:00Z', '5 min'],
    ['2026-04-30T12:00:00Z', '24 h'],
    ['2026-04-20T12:00:00Z', '11 d'],
    ['2026-05-01T12:00:09Z', '0.0 s'], // a clock that is ahead
  ])('of %s is %s', (at, said) => expect(age(at, now)).toBe(said))
})

describe('moments and lengths of time', () => {
  const at = new Date(2026, 4, 1, 9, 5, 3, 42)
  it('sort, and are as exact as they are wanted', () => {
    expect(time(at.toISOString())).toBe('2026-05-01 09:05:03')
    expect(stamp(at.toISOString())).toBe('2026-05-01 09:05:03.042')
    expect(stamp(null)).toBe('–')
    expect([1000, 3600_000, 864e5].map((span) => moment(at.getTime(), span))).toEqual(['09:05:03.042', '09:05:03', '2026-05-01 09:05:03'])
    expect([-20, 1500, 600_000, 9e6, 3e8].map(length)).toEqual(['-20 ms', '1.5 s', '10.0 min', '2.5 h', '3.5 d'])
  })
})

describe('raw', () => {
  it('is words, a bit or an object', () => {
    expect(raw({ raw: { words: ['0x41C8', '0x0000'] } } as Reading)).toBe('0x41C8 0x0000')
    expect(raw({ raw: { bit: 0 } } as Reading)).toBe('0')
    expect(raw({ raw: null } as unknown as Reading)).toBe('')
  })
})

describe('scalingText', () => {
  it('says each form of a scaling', () => {
    expect(scalingText(undefined)).toBe('')
    expect(scalingText({ raw: [0, 1000], eng: [0, 100] })).toBe('0…1000 → 0…100')
    expect(scalingText({ factor: 0.1 })).toBe('× 0.1')
    expect(scalingText({ factor: 2, offset: -5 })).toBe('× 2 + -5')
  })
})

describe('farEnd', () => {
  it('is an address or a port with its settings', () => {
    expect(farEnd({ transport: 'tcp', host: '10.0.0.1', port: 502 } as Link)).toBe('10.0.0.1:502')
    expect(farEnd({ transport: 'serial', serial: { device: 'COM3', baud: 9600, data_bits: 8, parity: 'even', stop_bits: 1 } } as Link)).toBe('COM3 9600 8E1')
    expect(farEnd({ transport: 'tcp', listen: '127.0.0.1:20000' } as Link)).toBe('listens at 127.0.0.1:20000')
  })
})

describe('states', () => {
  it('are written as lines and read back', () => {
    expect(writeStates({ 10: 'fault', 2: 'on' })).toBe('2 = on\n10 = fault')
    expect(readStates('off\non\n7 = fault\nafter')).toEqual({ 0: 'off', 1: 'on', 7: 'fault', 8: 'after' })
    expect(readStates(' \n')).toBeNull()
    expect(readStates(writeStates(['a', 'b']))).toEqual({ 0: 'a', 1: 'b' })
  })
})

describe('raw codes', () => {
  it('are numbers, or hex as text', () => {
    expect(readCodes('0x8000, 32767;-1  8000h')).toEqual(['0x8000', 32767, -1, '8000h'])
    expect(readCodes(' ')).toBeNull()
  })
})
