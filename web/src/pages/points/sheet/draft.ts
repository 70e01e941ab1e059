/** What was typed into the sheet and is not saved yet: cells, new rows, rows that are to go; every step can be undone. */

/** A row of the sheet: its cells as text by field, and what it is. */
export interface Row {
  [field: string]: string | number | boolean
  _key: number
  _tag: string // of the point as the site has it; '' for a new one
  _gone: boolean // it is to be removed
}

/** What is sent of a row. */
export interface Edit {
  tag?: string
  cells?: Record<string, string>
  was?: Record<string, string>
  remove?: boolean
}

interface Step {
  cells: { key: number; field: string; before: string; after: string }[]
  added: number[]
  gone: number[] // rows whose removal was turned over
}

interface Stored {
  edits: Edit[]
}

/** What a cell that was typed into is without that. */
interface Under {
  was: string // as it was seen when it was typed over
  now: string // as the site has it
}

export class Draft {
  constructor(readonly fields: string[]) {}
  rows: Row[] = []
  private byKey = new Map<number, Row>()
  private typed = new Map<number, Map<string, Under>>() // by row and field
  private done: Step[] = []
  private undone: Step[] = []
  private next = 0

  /**
   * Takes the rows of the service, headings first. A row stays the same one, whatever stands before it now, and what was typed stays on it; steps
   * can be undone as long as the site has what they began with.
   */
  load(list: string[][]) {
    const [headings = [], ...all] = list
    const fields = [...new Set([...this.fields, ...headings])].filter((f) => f !== '_tag')
    const before = this.rows
    const byTag = new Map(before.filter((r) => r._tag).map((r) => [r._tag, r]))
    const stepped = new Set([...this.done, ...this.undone].flatMap((s) => [...s.added, ...s.gone]))
    const cells = new Set([...this.done, ...this.undone].flatMap((s) => s.cells.map((c) => `${c.key} ${c.field}`)))
    let valid = true
    this.rows = []
    this.byKey = new Map()
    for (const texts of all) {
      const fresh = this.row(headings, texts)
      const row = byTag.get(fresh._tag)
      byTag.delete(fresh._tag)
      if (!row) {
        this.put(fresh)
        continue
      }
      this.put(row)
      const of = this.typed.get(row._key)
      for (const field of fields) {
        const text = String(fresh[field] ?? '') // what it does not say is empty
        const under = of?.get(field)
        if (text !== (under?.now ?? String(row[field] ?? '')) && cells.has(`${row._key} ${field}`)) valid = false
        if (under) under.now = text
        else row[field] = text
      }
    }
    // What is gone at the service and was typed into is told by it; new rows stay the last.
    for (const row of before) {
      if (this.byKey.has(row._key)) continue
      if (row._tag ? row._gone || this.typed.has(row._key) : !row._gone || stepped.has(row._key)) this.put(row)
      else this.typed.delete(row._key)
    }
    const gone = (s: Step) => s.cells.some((c) => !this.byKey.has(c.key)) || [...s.added, ...s.gone].some((key) => !this.byKey.has(key))
    if (!valid || this.done.some(gone) || this.undone.some(gone)) this.forget()
  }

  private forget() {
    this.done = []
    this.undone = []
  }

  /** Takes more rows of the service, behind those that are there; new ones stay the last. */
  more(list: string[][]) {
    const [headings = [], ...all] = list
    const known = new Set(this.rows.map((r) => r._tag))
    const fresh = this.rows.filter((r) => !r._tag)
    this.rows = this.rows.filter((r) => r._tag)
    for (const cells of all) {
      const row = this.row(headings, cells)
      if (!known.has(row._tag)) this.put(row)
    }
    this.rows.push(...fresh)
  }

  /** A row of the service; what it does not say is empty. */
  private row(headings: string[], cells: string[]): Row {
    const row: Row = { _key: this.next++, _tag: '', _gone: false }
    for (let i = 0; i < headings.length; i++) row[headings[i]!] = cells[i] ?? ''
    return row
  }

  private put(row: Row) {
    this.rows.push(row)
    this.byKey.set(row._key, row)
  }

  /** A new row, empty. */
  private blank(): Row {
    return this.row(this.fields, [])
  }

  /** Takes up edits of an earlier time. */
  restore(edits: Edit[]) {
    const byTag = new Map(this.rows.map((r) => [r._tag, r]))
    for (const edit of edits) {
      let row = edit.tag ? byTag.get(edit.tag) : undefined
      if (!row) {
        row = this.blank()
        row._tag = edit.tag ?? '' // one that is gone meanwhile is told by the service
        this.put(row)
        if (!row._tag) this.typed.set(row._key, new Map())
      }
      row._gone = edit.remove ?? false
      for (const [field, text] of Object.entries(edit.cells ?? {})) {
        const now = String(row[field] ?? '')
        row[field] = text
        this.note(row, field, { was: edit.was?.[field] ?? now, now }, text)
      }
    }
  }

  /** Whether something of an edit was typed again already. */
  knows(edit: Edit): boolean {
    return Boolean(edit.tag) && this.rows.some((r) => r._tag === edit.tag && this.typed.has(r._key))
  }

  private note(row: Row, field: string, under: Under, after: string) {
    let of = this.typed.get(row._key)
    if (!of) this.typed.set(row._key, (of = new Map()))
    if (!of.has(field)) of.set(field, under)
    if (of.get(field)!.now === after && row._tag) of.delete(field)
    if (of.size === 0 && row._tag) this.typed.delete(row._key)
  }

  private cell(key: number, field: string, text: string) {
    const row = this.byKey.get(key)
    if (!row) return
    const before = String(row[field] ?? '')
    row[field] = text
    this.note(row, field, { was: before, now: before }, text)
  }

  /** Changes cells, in one step. A row that went meanwhile is there again, and the service says that it is gone. */
  set(cells: { row: Row; field: string; text: string }[]) {
    const step: Step = { cells: [], added: [], gone: [] }
    for (const { row, field, text } of cells) {
      const before = String(row[field] ?? '')
      if (before === text || !this.fields.includes(field)) continue
      if (!this.byKey.has(row._key)) this.put(row)
      step.cells.push({ key: row._key, field, before, after: text })
      this.cell(row._key, field, text)
    }
    this.keep(step)
  }

  private keep(step: Step) {
    if (step.cells.length + step.added.length + step.gone.length === 0) return
    this.done.push(step)
    this.undone = []
    if (this.done.length > 500) this.done.shift()
  }

  /** Adds empty rows behind all others, in one step. */
  add(n: number): Row[] {
    const rows = Array.from({ length: n }, () => this.blank())
    for (const row of rows) {
      this.put(row)
      this.typed.set(row._key, new Map())
    }
    this.keep({ cells: [], added: rows.map((r) => r._key), gone: [] })
    return rows
  }

  /** Joins the last two steps, as of rows that were added and filled. */
  join() {
    const [a, b] = this.done.splice(-2)
    if (a && b) this.done.push({ cells: [...a.cells, ...b.cells], added: [...a.added, ...b.added], gone: [...a.gone, ...b.gone] })
    else if (a) this.done.push(a)
  }

  /** Marks rows as to be removed, or takes that back; new ones go at once. */
  turn(rows: Row[]) {
    const step: Step = { cells: [], added: [], gone: rows.map((r) => r._key) }
    for (const row of rows) row._gone = !row._gone
    this.keep(step)
  }

  private back(step: Step, forth: boolean) {
    for (const key of step.added) {
      const row = this.byKey.get(key)
      if (row) row._gone = !forth // a new row that is gone is sent to nobody
    }
    for (const key of step.gone) {
      const row = this.byKey.get(key)
      if (row) row._gone = !row._gone
    }
    const cells = forth ? step.cells : [...step.cells].reverse()
    for (const c of cells) this.cell(c.key, c.field, forth ? c.after : c.before)
  }

  undo() {
    const step = this.done.pop()
    if (!step) return
    this.back(step, false)
    this.undone.push(step)
  }

  redo() {
    const step = this.undone.pop()
    if (!step) return
    this.back(step, true)
    this.done.push(step)
  }

  get canUndo() {
    return this.done.length > 0
  }
  get canRedo() {
    return this.undone.length > 0
  }

  /** Whether a cell has another text than the site. */
  isTyped(row: Row, field: string): boolean {
    return this.typed.get(row._key)?.has(field) ?? false
  }

  /** What is to be saved, with its rows. New rows without a word are none. */
  edits(): { row: Row; edit: Edit }[] {
    const list: { row: Row; edit: Edit }[] = []
    for (const row of this.rows) {
      if (row._gone) {
        if (row._tag) list.push({ row, edit: { tag: row._tag, remove: true } })
        continue
      }
      const of = this.typed.get(row._key)
      if (!of) continue
      const cells: Record<string, string> = {}
      const was: Record<string, string> = {}
      for (const [field, under] of of) {
        cells[field] = String(row[field] ?? '')
        if (row._tag) was[field] = under.was
      }
      if (row._tag) list.push({ row, edit: { tag: row._tag, cells, was } })
      else if (Object.values(cells).some((text) => text !== '')) list.push({ row, edit: { cells } })
    }
    return list
  }

  get size(): number {
    return this.edits().length
  }

  /** Gives up everything that was typed. */
  clear() {
    for (const [key, of] of this.typed) {
      const row = this.byKey.get(key)
      if (row?._tag) for (const [field, under] of of) row[field] = under.now
    }
    this.typed = new Map()
    this.rows = this.rows.filter((r) => r._tag)
    for (const row of this.rows) row._gone = false
    this.forget()
  }

  /** Notes that edits were saved. What was typed while they were on their way is typed still, over what the site has now. */
  saved(list: { row: Row; edit: Edit }[]) {
    for (const { row, edit } of list) {
      if (edit.remove) {
        row._tag = ''
        row._gone = true
        this.typed.delete(row._key)
        continue
      }
      const of = this.typed.get(row._key) ?? new Map<string, Under>()
      for (const [field, text] of Object.entries(edit.cells ?? {})) {
        if (String(row[field] ?? '') === text) of.delete(field)
        else of.set(field, { was: text, now: text })
      }
      row._tag = edit.cells?.tag?.trim() ?? row._tag
      if (of.size > 0) this.typed.set(row._key, of)
      else this.typed.delete(row._key)
    }
    this.forget()
  }

  /** Gives up what was typed into some cells, as where somebody else changed them. */
  giveUp(cells: { row: Row; field: string }[]) {
    for (const { row, field } of cells) {
      const of = this.typed.get(row._key)
      if (!of?.has(field)) continue
      row[field] = of.get(field)!.now
      of.delete(field)
      if (of.size === 0) this.typed.delete(row._key)
    }
    this.forget()
  }

  store(): string {
    const edits = this.edits().map((e) => e.edit)
    return edits.length > 0 ? JSON.stringify({ edits } satisfies Stored) : ''
  }

  static stored(text: string | null): Edit[] {
    try {
      const parsed = JSON.parse(text ?? '') as Stored
      return Array.isArray(parsed.edits) ? parsed.edits.filter((e) => typeof e === 'object' && e !== null) : []
    } catch {
      return []
    }
  }
}

/** Rows of cells out of what a spreadsheet program put into the clipboard: tabs between cells, quotes around those with line ends. */
export function pasted(text: string): string[][] {
  const rows: string[][] = []
  let row: string[] = []
  let cell = ''
  let quoted = false
  for (let i = 0; i < text.length; i++) {
    const c = text[i]!
    if (quoted) {
      if (c === '"' && text[i + 1] === '"') {
        cell += c
        i++
      } else if (c === '"') quoted = false
      else cell += c
    } else if (c === '"' && cell === '') quoted = true
    else if (c === '\t' || c === '\n') {
      row.push(cell.replace(/\r$/, ''))
      cell = ''
      if (c === '\n') {
        rows.push(row)
        row = []
      }
    } else cell += c
  }
  if (cell !== '' || row.length > 0) rows.push([...row, cell.replace(/\r$/, '')])
  return rows.map((r) => r.map((c) => c.replace(/\s*[\r\n]+\s*/g, ' ').trim()))
}
