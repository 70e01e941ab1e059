import { describe, expect, it } from 'vitest'

import { headed, meant, toldOf, type ByHand } from '../src/components/columns'

const north = { name: 'North', columns: { Signal: 'tag', 'Reg.': 'address', Max: 'eng_max' } }
const south = { name: 'South', columns: { Stelle: '', 'Reg.': 'address' } }

describe('columns of a list', () => {
  it('are as recognised until a person says otherwise', () => {
    const none: ByHand = {}
    expect(meant(none, north, 'Signal')).toBe('tag')
    const said = headed(none, north, 'Max', undefined)
    expect(meant(said, north, 'Max')).toBe('')
    expect(meant(said, south, 'Max')).toBe('')
    expect(toldOf({}, said, false)).toBe('Max=')
    expect(toldOf({}, said, true)).toBe('North!Max=')
  })
  it('hold each field once', () => {
    const twice = headed(headed({}, north, 'Signal', 'description'), north, 'Max', 'description')
    expect(toldOf({}, twice, false)).toBe('description=Max')
    const of = headed(headed({}, north, 'Signal', 'unit'), south, 'Stelle', 'unit')
    expect(toldOf({}, of, true)).toBe('North!unit=Signal,South!unit=Stelle')
  })
  it('go before those that are kept', () => {
    const kept = { tag: 'Signal', address: 'Reg.', Remarks: '' }
    expect(toldOf(kept, {}, false)).toBe('tag=Signal,address=Reg.,Remarks=')
    expect(toldOf(kept, headed({}, north, 'Signal', 'description'), false)).toBe('address=Reg.,Remarks=,description=Signal')
  })
  it('are quoted where their headings part the text', () => {
    expect(toldOf({}, headed({}, north, 'Register, "hex"', 'address'), false)).toBe('"address=Register, ""hex"""')
  })
})
