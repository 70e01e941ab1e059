import type { Link, Reading, Scaling } from './api/client'
import { say } from './language'

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
  if (s.table) return say('scalings.table-of', { n: s.table.length })
  const factor = s.factor ?? 1
  return s.offset ? `× ${factor} + ${s.offset}` : `× ${factor}`
}

/** Where a link goes: host and port, or a serial port with its settings. */
export function farEnd(l: Link): string {
  if (l.listen) return say('links.listens-at', { address: l.listen })
  const s = l.serial
  if ((l.transport !== 'serial' && l.transport !== 'dialup') || !s) return `${l.host ?? ''}:${l.port ?? ''}`
  return `${s.device} ${s.baud ?? ''} ${s.data_bits ?? ''}${(s.parity ?? '?')[0]?.toUpperCase()}${s.stop_bits ?? ''}`
}
