/** What registers may mean, for a person to pick the value that the device shows. */
export interface Meaning {
  address: string
  type: string
  order: string
  text: string
}

/** The words of registers that were read one by one, undefined where one was not. */
export interface Register {
  address: string
  word?: number
}

const view = new DataView(new ArrayBuffer(4))

function float(high: number, low: number): number {
  view.setUint16(0, high)
  view.setUint16(2, low)
  return view.getFloat32(0)
}

/** Whether a number is one that a plant means: not tiny, huge or none at all. */
export function plausible(n: number): boolean {
  return n === 0 || (Number.isFinite(n) && Math.abs(n) >= 1e-4 && Math.abs(n) < 1e9)
}

/** The meanings of the register at a place, alone and with the one behind it. */
export function meanings(registers: Register[], at: number): Meaning[] {
  const r = registers[at]
  if (!r || r.word === undefined) return []
  const list: Meaning[] = [{ address: r.address, type: 'uint16', order: 'ABCD', text: String(r.word) }]
  if (r.word > 0x7fff) list.push({ address: r.address, type: 'int16', order: 'ABCD', text: String(r.word - 0x10000) })
  const next = registers[at + 1]?.word
  if (next === undefined || (r.word === 0 && next === 0)) return list
  for (const [order, high, low] of [
    ['ABCD', r.word, next],
    ['CDAB', next, r.word],
  ] as const) {
    const f = float(high, low)
    if (plausible(f)) list.push({ address: r.address, type: 'float32', order, text: String(Number(f.toPrecision(6))) })
    if (high !== 0 && high < 0x100) list.push({ address: r.address, type: 'uint32', order, text: String(high * 0x10000 + low) })
  }
  return list
}

/** A name that can be one: letters, digits, - _ . of what was typed. */
export function nameOf(text: string): string {
  return (
    text
      .trim()
      .replace(/[^\p{L}\p{N}._-]+/gu, '-')
      .replace(/^-+|-+$/g, '')
      .slice(0, 60) || 'device'
  )
}
