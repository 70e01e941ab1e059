import type { Board, Point } from '../../api/client'

export type Display = NonNullable<Board['displays']>[number]
export type Show = Display['show']

export const columns = 24
export const rowHeight = 30
export const gap = 8

/** The displays that write their point. */
export const writing: Show[] = ['switch', 'button', 'push', 'slider', 'entry', 'states']

/** How large a display is when it is put on a board, in columns and rows. */
const sizes: Record<Show, [number, number]> = { figure: [4, 3], bar: [6, 3], gauge: [5, 5], lamp: [4, 2], trend: [12, 6], table: [8, 8], text: [6, 2], picture: [8, 8], switch: [4, 3], button: [4, 3], push: [4, 3], slider: [6, 3], entry: [4, 3], states: [5, 3] }
export const sizeOf = (show: Show) => sizes[show]

/** The displays that suit a point, the usual one first. */
export function suits(p: Point): Show[] {
  const scaled = Boolean(p.scaling?.eng || p.range || p.limits || p.unit === '%')
  const named = Boolean(p.states)
  if (p.type === 'string' || p.type === 'bits') return p.writable && p.type === 'string' ? ['entry', 'figure', 'table'] : ['figure', 'table']
  if (p.type === 'bool') {
    if (!p.writable) return ['lamp', 'figure', 'trend', 'table']
    return p.pulse ? ['push', 'switch', 'lamp', 'trend', 'table'] : ['switch', 'button', 'push', 'lamp', 'trend', 'table']
  }
  if (named) return p.writable ? ['states', 'figure', 'trend', 'table'] : ['figure', 'lamp', 'trend', 'table']
  if (p.writable) return scaled ? ['entry', 'slider', 'gauge', 'bar', 'figure', 'trend', 'table'] : ['entry', 'figure', 'trend', 'table']
  return scaled ? ['gauge', 'bar', 'figure', 'trend', 'table'] : ['figure', 'bar', 'gauge', 'trend', 'table']
}

/** The ends of a scale: what the point says its values can be; otherwise what fits its limits and the value. */
export function rangeOf(p: Point | undefined, value: number | undefined): [number, number] {
  if (p?.range) return p.range as [number, number]
  if (p?.scaling?.eng) return [Math.min(...p.scaling.eng), Math.max(...p.scaling.eng)]
  if (p?.unit === '%') return [0, 100]
  const known = [0, value ?? 0]
  for (const name of ['low_low', 'low', 'high', 'high_high'] as const) {
    const v = p?.limits?.[name]
    if (v !== undefined && v !== null) known.push(v)
  }
  const [least, most] = [Math.min(...known), Math.max(...known)]
  return [round(least * 1.15), round(most * 1.15) || 1]
}

/** The next number that people read easily, away from zero. */
function round(v: number): number {
  if (v === 0) return 0
  const size = 10 ** Math.floor(Math.log10(Math.abs(v)))
  const steps = [1, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10]
  const step = steps.find((s) => s * size >= Math.abs(v) - size * 1e-9) ?? 10
  return Math.sign(v) * step * size
}

/** A free place for a display of a size, from the top on. */
export function place(list: Display[], w: number, h: number, x = 0, y = 0): { x: number; y: number } {
  const free = (left: number, top: number) => !list.some((d) => left < d.x + d.w && d.x < left + w && top < d.y + d.h && d.y < top + h)
  for (let top = y; top < 400; top++) {
    for (let left = top === y ? Math.min(x, columns - w) : 0; left + w <= columns; left++) {
      if (free(left, top)) return { x: left, y: top }
    }
  }
  return { x: 0, y: 399 }
}

/** The names of a point's values, by number. */
export function namesOf(p?: Point): [number, string][] {
  const states = p?.states as string[] | Record<string, string> | undefined
  if (!states) return []
  return Array.isArray(states) ? states.map((name, n) => [n, name]) : Object.entries(states).map(([n, name]) => [Number(n), name])
}
