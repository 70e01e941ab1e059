import type { Point } from '../../api/client'

/** Names of values as lines, such as "0 = stopped". */
export function writeStates(states: Point['states']): string {
  if (!states) return ''
  const pairs: [string, string][] = Array.isArray(states) ? states.map((name, i) => [String(i), name]) : Object.entries(states)
  return pairs
    .sort((a, b) => Number(a[0]) - Number(b[0]))
    .map(([n, name]) => `${n} = ${name}`)
    .join('\n')
}

/** The inverse; lines without a number count on from the one before. What is no number is left to the service to refuse. */
export function readStates(text: string): Record<string, string> | null {
  const states: Record<string, string> = {}
  let next = 0
  for (const line of text.split('\n')) {
    if (!line.trim()) continue
    const m = /^\s*([^=]*?)\s*=\s*(.*?)\s*$/.exec(line)
    const number = m?.[1] ?? String(next)
    states[number] = m?.[2] ?? line.trim()
    next = Number(number) + 1
  }
  return Object.keys(states).length > 0 ? states : null
}

/** Raw codes with commas between them, as the service reads them: numbers, or hex as text. */
export function readCodes(text: string): (number | string)[] | null {
  const codes = text.split(/[\s,;]+/).filter(Boolean)
  return codes.length > 0 ? codes.map((code) => (/^-?[0-9]+$/.test(code) ? Number(code) : code)) : null
}

/** The two ends of a range with a comma between them; what are no numbers goes to the service as it is, which says so. */
export function readRange(text: string): (number | string)[] | null {
  const ends = text.split(/[,;\s]+/).filter(Boolean)
  return ends.length > 0 ? ends.map((end) => (Number.isFinite(Number(end)) ? Number(end) : end)) : null
}
