import type { Link, Reading, Scaling } from './api/client'

/** How old a moment is, in few characters. */
export function age(at: string | null | undefined, now: number): string {
  if (!at) return 'never'
  const seconds = Math.max(0, (now - Date.parse(at)) / 1000)
  if (seconds < 60) return `${seconds.toFixed(seconds < 10 ? 1 : 0)} s`
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min`
  if (seconds < 48 * 3600) return `${Math.floor(seconds / 3600)} h`
  return `${Math.floor(seconds / 86400)} d`
}

/** The wire data of a reading. */
export function raw(r: Reading): string {
  if (!r.raw) return ''
  if (r.raw.bit !== undefined) return String(r.raw.bit)
  return r.raw.words?.join(' ') ?? r.raw.object ?? ''
}

/** A scaling in a few words. */
export function scalingText(s: Scaling | undefined): string {
  if (!s) return ''
  if (s.raw && s.eng) return `${s.raw.join('…')} → ${s.eng.join('…')}${s.curve === 'square-root' ? ' √' : ''}`
  if (s.table) return `table of ${s.table.length}`
  const factor = s.factor ?? 1
  return s.offset ? `× ${factor} + ${s.offset}` : `× ${factor}`
}

/** A moment in this machine's time, in an order that sorts. */
export function time(at: string): string {
  const d = new Date(at)
  const two = (n: number) => String(n).padStart(2, '0')
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`
}

/** Where a link goes: host and port, or a serial port with its settings. */
export function farEnd(l: Link): string {
  if (l.listen) return `listens at ${l.listen}`
  const s = l.serial
  if ((l.transport !== 'serial' && l.transport !== 'dialup') || !s) return `${l.host ?? ''}:${l.port ?? ''}`
  return `${s.device} ${s.baud ?? ''} ${s.data_bits ?? ''}${(s.parity ?? '?')[0]?.toUpperCase()}${s.stop_bits ?? ''}`
}
