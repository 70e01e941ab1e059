import { say } from './language'

// How moments, ages and lengths of time are said, on every page.

const two = (n: number) => String(n).padStart(2, '0')
const date = (d: Date) => `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())}`
const hours = (d: Date) => `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`
const thousandths = (d: Date) => `.${String(d.getMilliseconds()).padStart(3, '0')}`

/** How old a moment is, in few characters. */
export function age(at: string | null | undefined, now: number): string {
  if (!at) return say('time.never')
  const seconds = Math.max(0, (now - Date.parse(at)) / 1000)
  if (seconds < 60) return `${seconds.toFixed(seconds < 10 ? 1 : 0)} s`
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min`
  if (seconds < 48 * 3600) return `${Math.floor(seconds / 3600)} h`
  return `${Math.floor(seconds / 86400)} d`
}

/** A moment in this machine's time, in an order that sorts. */
export function time(at: string | number): string {
  const d = new Date(at)
  return `${date(d)} ${hours(d)}`
}

/** A moment to the millisecond; a dash where there is none. */
export function stamp(at: string | null | undefined): string {
  if (!at) return '–'
  const d = new Date(at)
  return time(at) + thousandths(d)
}

/** The time of the day, to the millisecond. */
export function clock(at: string): string {
  const d = new Date(at)
  return hours(d) + thousandths(d)
}

/** A time within a window: with the date where the window is longer than a day, to the millisecond where it is short. */
export function moment(at: number, span: number): string {
  const d = new Date(at)
  if (span > 20 * 3600_000) return time(at)
  return hours(d) + (span < 120_000 ? thousandths(d) : '')
}

/** A length of time, in few characters. */
export function length(ms: number): string {
  const s = Math.abs(ms) / 1000
  if (s < 1) return `${Math.round(ms)} ms`
  if (s < 120) return `${(ms / 1000).toFixed(1)} s`
  if (s < 7200) return `${(ms / 60_000).toFixed(1)} min`
  if (s < 172_800) return `${(ms / 3600_000).toFixed(1)} h`
  return `${(ms / 86_400_000).toFixed(1)} d`
}
