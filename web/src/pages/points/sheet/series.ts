/** Series, as filling down goes on with them: names count up, addresses advance by the width of the type, numbers by their step. */

/** How many registers or bits a value takes: addresses advance by it. */
export function width(address: string, type: string, length: string): number {
  const table = /^(co|di|bi|dbi|bo|ctr|fctr|ai|ao|os):/.exec(address)
  if (table || /^[01]\d{4,5}$/.test(address)) return 1
  if (/64$/.test(type)) return 4
  if (/32$/.test(type)) return 2
  if (type === 'string') return Math.max(1, Math.ceil(Number(length || 2) / 2))
  if (type === 'bits') return Math.max(1, Number(length || 16) / 16)
  return 1
}

/** A text with its last number further by a step, with as many digits; undefined where it has none. */
function counted(text: string, step: number): string | undefined {
  const m = /^(.*?)(\d+)(\D*)$/.exec(text)
  if (!m) return undefined
  const digits = m[2]!
  const next = Number(digits) + step
  if (next < 0 || digits.length > 15) return undefined
  return m[1] + String(next).padStart(digits.startsWith('0') ? digits.length : 1, '0') + m[3]
}

const lastNumber = (text: string) => Number(/(\d+)\D*$/.exec(text)?.[1] ?? NaN)

/** The address that follows one: the next bit of a register, or the register behind the value. */
export function nextAddress(address: string, step: number): string | undefined {
  const hex = /^(.*?)0x([0-9a-f]+)(\.\d+)?$/i.exec(address)
  const plain = /^(.*?)(\d+)(?:\.(\d+|high|low))?$/.exec(address)
  if (hex && !hex[3]) return `${hex[1]}0x${(parseInt(hex[2]!, 16) + step).toString(16).toUpperCase()}`
  if (!plain) return undefined
  const [, before, digits, part] = plain
  if (part && /^\d+$/.test(part)) {
    const bit = Number(part) + 1
    return bit < 16 ? `${before}${digits}.${bit}` : `${before}${counted(digits!, 1)}.0`
  }
  return part ? undefined : `${before}${counted(digits!, step)}`
}

/** A row as series look at it. */
export type Cells = Record<string, string>

/**
 * What a column has in the rows that are filled: sources are the rows it begins with, targets those that go on, in their order. Of a single number nothing is
 * counted, as in any spreadsheet; of several the step goes on.
 */
export function series(field: string, sources: Cells[], targets: Cells[]): string[] {
  const texts = sources.map((s) => s[field] ?? '')
  const last = texts[texts.length - 1] ?? ''
  const out: string[] = []
  if (field === 'address' || field === 'read_back') {
    if (!last) return targets.map(() => '')
    const before = texts[texts.length - 2]
    const step = before !== undefined && !last.includes('.') ? lastNumber(last) - lastNumber(before) : NaN
    let from = last
    let row = sources[sources.length - 1]!
    for (const target of targets) {
      from = nextAddress(from, Number.isFinite(step) && step !== 0 ? step : width(from, row.type ?? '', row.length ?? '')) ?? from
      out.push(from)
      row = { ...target, type: target.type || row.type!, length: target.length || row.length! }
    }
    return out
  }
  const numbers = texts.map((text) => (text.trim() === '' ? NaN : Number(text)))
  if (numbers.length > 1 && numbers.every(Number.isFinite)) {
    const step = numbers[numbers.length - 1]! - numbers[numbers.length - 2]!
    return targets.map((_, i) => String(Number((numbers[numbers.length - 1]! + step * (i + 1)).toPrecision(12))))
  }
  if (field === 'tag' || field === 'description') {
    // Several texts that differ in their last number go on with its step; texts that differ otherwise are repeated, each counting on.
    const same = (a: string, b: string) => a.replace(/\d+(\D*)$/, '#$1') === b.replace(/\d+(\D*)$/, '#$1')
    const alike = texts.every((text) => same(text, last)) && /\d/.test(last)
    if (alike) {
      const step = texts.length > 1 ? lastNumber(last) - lastNumber(texts[texts.length - 2]!) : 1
      return targets.map((_, i) => counted(last, step * (i + 1)) ?? last)
    }
    return targets.map((_, i) => {
      const text = texts[i % texts.length]!
      return counted(first(text), 0) === undefined ? text : (countFirst(text, Math.floor(i / texts.length) + 1) ?? text)
    })
  }
  return targets.map((_, i) => texts[i % texts.length]!)
}

const first = (text: string) => /^\D*\d+/.exec(text)?.[0] ?? ''

/** A text with its first number further by a step: pump1/current, pump1/power go on as pump2/current, pump2/power. */
function countFirst(text: string, step: number): string | undefined {
  const head = first(text)
  const next = head && counted(head, step)
  return next ? next + text.slice(head.length) : undefined
}
