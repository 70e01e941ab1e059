import type { Plot } from '../../api/client'

/** One curve of a plot, as it is drawn. */
export type Curve = Plot['series'][number]

/** How curves are told apart: by colour, and by the way the line is broken. */
export interface Stroke {
  colour: string
  dash: number[]
}

const light = ['#1f6f8b', '#a6501f', '#5b7a1e', '#7a3f86', '#b0811a', '#2d4b9e', '#a3375c', '#3d7a68']
const dark = ['#6fc3dd', '#e89a68', '#a8cc63', '#cf9bdc', '#e5c05c', '#93aef0', '#ef8fb0', '#7fd0b8']
const dashes = [[], [8, 4], [2, 3], [12, 3, 2, 3]]

/** The stroke of the curve at a place of the list. */
export function strokeOf(i: number, isDark: boolean): Stroke {
  const colours = isDark ? dark : light
  return { colour: colours[i % colours.length]!, dash: dashes[Math.floor(i / colours.length) % dashes.length]! }
}

/** What a curve shows at a moment: the value of the last column that begins before it; null where it was bad, undefined where nothing is known. */
export function valueAt(curve: Curve, plot: Plot, at: number): number | null | undefined {
  if (plot.gaps.some((g) => Date.parse(g.from) <= at && at < Date.parse(g.to))) return undefined
  let low = 0
  let high = curve.times.length
  while (low < high) {
    const middle = (low + high) >> 1
    if (curve.times[middle]! <= at) low = middle + 1
    else high = middle
  }
  if (low === 0) return curve.before ?? undefined
  const began = curve.times[low - 1]!
  const gap = plot.gaps.find((g) => Date.parse(g.from) >= began && Date.parse(g.from) <= at)
  if (gap) return undefined
  return curve.last[low - 1]
}

/** The least and the most of curves between which they are drawn; a little room at both ends, and some where they do not move. */
export function rangeOf(curves: Curve[]): [number, number] {
  let least = Infinity
  let most = -Infinity
  for (const c of curves) {
    for (const list of [c.least, c.most, [c.before]]) {
      for (const v of list) {
        if (v === null || v === undefined) continue
        if (v < least) least = v
        if (v > most) most = v
      }
    }
  }
  if (least > most) return [0, 1]
  const room = most > least ? (most - least) * 0.06 : Math.max(Math.abs(most) * 0.05, 0.5)
  return [least - room, most + room]
}

/** A number with as many digits as matter for a difference between two ends. */
export function shown(v: number | null | undefined, digits = 5): string {
  if (v === null || v === undefined) return '–'
  if (v !== 0 && (Math.abs(v) >= 1e7 || Math.abs(v) < 1e-4)) return v.toExponential(3)
  return String(Number(v.toPrecision(digits)))
}
