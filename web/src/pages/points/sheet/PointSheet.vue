<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, onBeforeUnmount, onMounted, onScopeDispose, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Reading, type SheetOutcome } from '../../../api/client'
import { useLive } from '../../../composables/useLive'
import { useLook } from '../../../composables/useLook'
import { useMe } from '../../../composables/useMe'
import { proposalTitle } from '../../../composables/propose'
import { useTogether } from '../../../composables/useTogether'
import { scalingText } from '../../../format'
import { Draft, pasted, type Row } from './draft'
import FindReplace from './FindReplace.vue'
import { defineGrid, type Area, type Grid } from './grid'
import { series } from './series'
import { usePresence } from './usePresence'

// The points as a sheet that is edited in place. What is typed is a draft, looked at by the service while one types and saved all or nothing; it
// stays when the page is loaded anew.
const props = defineProps<{ fields: string[]; search: string; branch: string; finding: boolean; shownColumns: string[] }>()
const emit = defineEmits<{ open: [tag: string]; counted: [shown: number, all: number]; tags: [{ tag: string }[]]; found: [] }>()
const { t, te } = useI18n()
const { dark } = useLook()

const stored = 'sheet-draft'
const draft = new Draft(props.fields)
const loaded = ref<'no' | 'part' | 'yes'>('no')
const problem = ref('')
const changes = ref(0) // counts up with every change of the draft, which is no reactive thing: it may hold 50,000 rows
const at = ref<HTMLElement>()
const grid = shallowRef<Grid>()
let view: Row[] = [] // as they are shown: searched, on a branch

const outcome = shallowRef<SheetOutcome>()
const faults = shallowRef(new Map<number, Map<string, string>>()) // by row and field; '' is the row as a whole
const busy = ref(false)
const size = computed(() => (changes.value, draft.size))
const canUndo = computed(() => (changes.value, draft.canUndo))
const canRedo = computed(() => (changes.value, draft.canRedo))
const counts = computed(() => {
  void changes.value
  const n = { added: 0, changed: 0, removed: 0 }
  for (const { edit } of draft.edits()) n[edit.remove ? 'removed' : edit.tag ? 'changed' : 'added']++
  return n
})

const beside = usePresence(
  computed(() => (changes.value, draft.edits().at(-1)?.edit.tag)),
  () => repaint(),
)

// Live values of the rows that are on screen.
const visible = ref<string[]>([])
const { readings, connected } = useLive(computed(() => (visible.value.length > 0 ? visible.value : ['\u0000'])))
const marks = { good: '●', uncertain: '◐', bad: '✕' }
const valueOf = (r: Reading | undefined) => (r ? (r.quality === 'bad' ? (r.text ? `(${r.text})` : r.reason) : `${r.text} ${r.unit}`.trim()) : '')

const widths: Record<string, number> = { tag: 190, value: 130, station: 115, address: 92, type: 78, order: 68, scaling: 130, unit: 62, decimals: 84, writable: 84, description: 190, states: 180, range: 110 }
const title = (field: string) => (te(`columns.${field}`) ? t(`columns.${field}`) : field)

type Cell = { model: Row; prop: string }
function properties({ model, prop }: Cell) {
  const own = faults.value.get(model._key)
  const wrong = own?.get(prop) ?? (prop === 'tag' ? own?.get('') : undefined)
  const theirs = beside.at(model._tag)
  return {
    class: { wrong: Boolean(wrong), typed: draft.isTyped(model, prop), gone: model._gone, fresh: !model._tag, theirs: prop === 'tag' && theirs.length > 0 },
    title: wrong ?? (prop === 'tag' && theirs.length > 0 ? t('people.edits-too', { who: theirs.join(', ') }) : undefined),
    role: 'gridcell',
    'aria-invalid': wrong ? 'true' : undefined,
    'data-cell': `${model.tag ?? ''} ${prop}`,
  }
}
const columns = computed(() => {
  const list = props.shownColumns
  const made: object[] = [
    {
      prop: '_open',
      name: '',
      size: 34,
      readonly: true,
      filter: false,
      canFocus: false,
      cellProperties: () => ({ role: 'gridcell' }),
      cellTemplate: (h: (tag: string, data: object, text?: string) => unknown, { model }: Cell) => (model._tag ? h('button', { class: 'open', type: 'button', title: t('sheet.open', { tag: model._tag }), 'aria-label': t('sheet.open', { tag: model._tag }), tabIndex: -1, onClick: () => emit('open', model._tag) }, '⋯') : ''),
    },
  ]
  for (const field of list) {
    if (field === 'value') {
      made.push({
        prop: '_value',
        name: t('columns.value'),
        size: widths.value,
        readonly: true,
        filter: false,
        cellProperties: () => ({ role: 'gridcell' }),
        cellTemplate: (h: (tag: string, data: object, text?: string) => unknown, { model }: Cell) => {
          const r = connected.value ? readings.value.get(model._tag) : undefined // what may be old by now is not shown
          return h('span', { class: r ? `live ${r.quality}` : 'live', title: r ? `${t(`quality.${r.quality}`)} ${r.reason ?? ''}`.trim() : '' }, r ? `${marks[r.quality]} ${valueOf(r)}` : '')
        },
      })
      continue
    }
    made.push({
      prop: field,
      name: title(field),
      size: widths[field] ?? 110,
      sortable: true,
      filter: true,
      cellProperties: properties,
      ...(field === 'scaling' || field === 'states' ? { cellTemplate: (_: unknown, { model }: Cell) => readable(field, String(model[field] ?? '')) } : {}),
    })
  }
  return made
})
/** Scalings and states as a person reads them; what cannot be read is shown as it is. */
function readable(field: string, text: string): string {
  if (!text.startsWith('{') && !text.startsWith('[')) return text
  try {
    const v = JSON.parse(text) as Record<string, string>
    if (field === 'scaling') return scalingText(v as never) || text
    return Object.entries(v)
      .map(([n, s]) => `${n}=${s}`)
      .join(', ')
  } catch {
    return text
  }
}

/** The field of a column of the sheet, '' for one that holds none. */
const fieldAt = (x: number) => {
  const prop = (columns.value[x] as { prop: string } | undefined)?.prop ?? ''
  return prop.startsWith('_') ? '' : prop
}

/** Chooses the rows that are shown: those of the branch with all words, and what was typed. */
function look() {
  const words = props.search.toLowerCase().split(/\s+/).filter(Boolean)
  const searched = ['tag', 'station', 'address', 'type', 'unit', 'description']
  const within = props.branch ? `${props.branch}/` : ''
  view = draft.rows.filter((row) => {
    if (row._gone && !row._tag) return false
    if (!row._tag) return true
    if (within && !String(row.tag).startsWith(within)) return false
    if (words.length === 0) return true
    const text = searched.map((field) => row[field]).join(' ').toLowerCase()
    return words.every((w) => text.includes(w))
  })
  void showRows()
  emit('counted', view.filter((r) => r._tag).length, draft.rows.filter((r) => r._tag).length)
  window.setTimeout(seen, 50)
}

/** Gives the grid its rows, where they are others than it has; the focus stays where it was, and nothing moves under a cell that is typed into. */
let given: Row[] = []
let giving = 0
async function showRows() {
  if (!grid.value) return
  if (given.length === view.length && given.every((r, i) => r === view[i])) {
    repaint()
    return
  }
  if (giving) return
  if (editing()) {
    doing(1)
    giving = window.setTimeout(() => {
      giving = 0
      doing(-1)
      void showRows()
    }, 100)
    return
  }
  given = view
  doing(1)
  const focused = await grid.value.getFocused()
  if (at.value) at.value.dataset.focus = ''
  grid.value.source = view
  window.setTimeout(async () => {
    if (focused && focused.cell.y < view.length) await grid.value?.setCellsFocus(focused.cell, focused.cell)
    doing(-1)
  }, 60)
}

/** Keeps count of what is under way, so that one can tell when the sheet has come to rest. */
let under = 0
function doing(n: number) {
  under += n
  if (at.value) at.value.dataset.rest = under === 0 ? 'yes' : 'no'
}

/** What the rows on screen are, in their order. */
async function rowsShown(): Promise<Row[]> {
  return ((await grid.value?.getVisibleSource()) ?? []) as Row[]
}
let top = 0
const rowHeight = 28
async function seen() {
  const rows = await rowsShown()
  const from = Math.max(0, Math.floor(top / rowHeight) - 4)
  visible.value = rows.slice(from, from + Math.ceil((at.value?.clientHeight ?? 800) / rowHeight) + 8).flatMap((r) => (r._tag ? [r._tag] : []))
}
let seeing = 0
function scrolled(event: Event) {
  const { dimension, coordinate } = (event as CustomEvent<{ dimension: string; coordinate: number }>).detail
  if (dimension !== 'rgRow') return
  top = coordinate
  window.clearTimeout(seeing)
  seeing = window.setTimeout(seen, 120)
}
// New values are painted, but not under somebody's hand: a cell that is pressed or typed into stays as it is.
let painting = 0
let pressed = 0
const editing = () => document.activeElement instanceof HTMLInputElement && Boolean(at.value?.contains(document.activeElement))
function paint() {
  painting = 0
  if (editing() || Date.now() - pressed < 400) painting = window.setTimeout(paint, 200)
  else void grid.value?.refresh('rgRow')
}
function repaint(within = 0) {
  if (!painting) painting = window.setTimeout(paint, within)
}
watch(readings, () => repaint(300))
watch(connected, () => repaint())

/** Shows a change of the draft, keeps it, and asks the service what is wrong. */
let asking = 0
function changed(rows = false) {
  changes.value++
  if (loaded.value !== 'yes') return // what was typed before is not looked at yet, and must not be lost
  const text = draft.store()
  try {
    if (text) localStorage.setItem(stored, text)
    else localStorage.removeItem(stored)
  } catch {
    problem.value = t('sheet.not-kept')
  }
  if (rows) look()
  else repaint()
  if (asking) window.clearTimeout(asking)
  else doing(1)
  asking = window.setTimeout(async () => {
    asking = 0
    await ask(true)
    doing(-1)
  }, 250)
}

const who = useMe()
async function propose() {
  const title = await proposalTitle()
  if (title) await ask(false, false, title)
}
const news = ref('')
let newsEnds: ReturnType<typeof setTimeout> | undefined
function tell(text: string) {
  news.value = text
  clearTimeout(newsEnds)
  newsEnds = setTimeout(() => (news.value = ''), 8000)
}
// What others finish is looked at when nothing is on its way here.
onScopeDispose(
  useTogether().follow((news) => {
    const points = news.sets.flatMap((s) => s.changes.filter((c) => c.kind === 'point').map((c) => ({ who: s.who, name: c.name })))
    if (points.length > 0 && !busy.value) tell(t('sheet.news', { who: points[0]!.who, what: points.slice(0, 3).map((p) => p.name).join(', ') + (points.length > 3 ? ' …' : '') }))
    if (!busy.value && loaded.value !== 'no' && news.touches('point')) void load()
  }),
)

let asked = 0
/** Asks what would come of the draft, saves it, or keeps it as a proposal of a title. Who may not change the site asks as for a proposal. */
async function ask(dry: boolean, force = false, title?: string) {
  const edits = draft.edits()
  const mine = ++asked
  if (edits.length === 0) {
    outcome.value = undefined
    faults.value = new Map()
    repaint()
    return
  }
  if (!dry) busy.value = true
  try {
    const out = await api.changeSheet({ rows: edits.map((e) => e.edit), dry_run: dry, force }, title || !who.may('engineer') ? { propose: title || 'draft' } : undefined)
    if (out.applied || out.proposal) { // whatever was asked since
      if (out.applied) ElMessage.success(t('sheet.saved', { added: out.added, changed: out.changed, removed: out.removed }))
      draft.saved(edits)
      outcome.value = undefined
      faults.value = new Map()
      await load()
      changed()
      return
    }
    if (mine !== asked) return
    outcome.value = out
    problem.value = ''
    const map = new Map<number, Map<string, string>>()
    for (const f of out.faults) {
      const key = edits[f.row]?.row._key ?? -1
      if (!map.has(key)) map.set(key, new Map())
      const of = map.get(key)!
      of.set(f.field ?? '', [of.get(f.field ?? ''), f.message].filter(Boolean).join('\n'))
    }
    faults.value = map
    repaint()
  } catch (error) {
    if (mine === asked) problem.value = message(error)
  } finally {
    busy.value = false
  }
}
const conflicts = computed(() => outcome.value?.faults.filter((f) => f.conflict) ?? [])
/** Gives up the cells that somebody else changed, and looks at theirs. */
async function takeTheirs() {
  const edits = draft.edits()
  draft.giveUp(conflicts.value.flatMap((f) => (edits[f.row] && f.field ? [{ row: edits[f.row]!.row, field: f.field }] : [])))
  const gone = conflicts.value.flatMap((f) => (edits[f.row] && !f.field ? [edits[f.row]!.row] : []))
  for (const row of gone) draft.giveUp(draft.fields.map((field) => ({ row, field })))
  await load()
  changed(true)
}
function discard() {
  draft.clear()
  changed(true)
}
const faultLines = computed(() => {
  const edits = draft.edits()
  return (outcome.value?.faults ?? []).slice(0, 5).map((f) => ({ row: edits[f.row]?.row, field: f.field ?? '', text: `${edits[f.row]?.row.tag ?? ''} ${f.field ?? ''}: ${f.message}` }))
})
async function goTo(row: Row | undefined, field: string) {
  if (!row) return
  const y = (await rowsShown()).findIndex((r) => r._key === row._key)
  const x = columns.value.findIndex((c) => (c as { prop: string }).prop === (field || 'tag'))
  if (y < 0 || x < 0) return
  await grid.value?.scrollToCoordinate({ x, y })
  await grid.value?.setCellsFocus({ x, y }, { x, y })
}

/** Comes when the first rows are on screen. */
let paintedNow = () => {}
const painted = new Promise<void>((resolve) => (paintedNow = resolve))

/** How many rows are asked for at first: those that are on screen, and some more. */
const atFirst = 200
let loads = 0
async function load() {
  try {
    if (loaded.value === 'no') {
      draft.load(await api.sheet(0, atFirst))
      const kept = Draft.stored(localStorage.getItem(stored))
      loaded.value = 'part'
      if (draft.rows.length === atFirst) {
        look()
        await painted // what is on screen comes first
        draft.more(await api.sheet(atFirst))
      }
      loaded.value = 'yes'
      draft.restore(kept.filter((e) => !draft.knows(e)))
      look()
      if (draft.size > 0) changed(true)
    } else {
      const mine = ++loads
      let rows: string[][]
      do {
        while (editing()) await new Promise((resolve) => window.setTimeout(resolve, 100)) // what is typed over is what is seen
        rows = await api.sheet(0)
      } while (editing())
      if (mine !== loads) return // a newer one comes
      draft.load(rows)
      look()
    }
    problem.value = ''
    emit(
      'tags',
      draft.rows.filter((r) => r._tag).map((r) => ({ tag: String(r.tag) })),
    )
  } catch (error) {
    problem.value = message(error)
  }
}

/** The block that is selected, or the cell that has the focus. */
async function selected(): Promise<Area | undefined> {
  const area = await grid.value?.getSelectedRange()
  if (area) return { x: area.x, y: area.y, x1: area.x1, y1: area.y1 }
  const focused = await grid.value?.getFocused()
  return focused ? { x: focused.cell.x, y: focused.cell.y, x1: focused.cell.x, y1: focused.cell.y } : undefined
}

/** Fills a block downwards with what its first rows begin. */
async function fill(area: Area, sources: number) {
  const rows = await rowsShown()
  const cells: { row: Row; field: string; text: string }[] = []
  // Types first: addresses advance by them.
  const order = Array.from({ length: area.x1 - area.x + 1 }, (_, i) => area.x + i).sort((a, b) => Number(fieldAt(a) === 'address') - Number(fieldAt(b) === 'address'))
  const asFilled = rows.slice(area.y, area.y1 + 1).map((r) => Object.fromEntries(Object.entries(r).map(([k, v]) => [k, String(v)])))
  for (const x of order) {
    const field = fieldAt(x)
    if (!field) continue
    const texts = series(field, asFilled.slice(0, sources), asFilled.slice(sources))
    texts.forEach((text, i) => {
      const row = rows[area.y + sources + i]
      asFilled[sources + i]![field] = text
      if (row) cells.push({ row, field, text })
    })
  }
  draft.set(cells)
  changed()
}

/** Puts a block into the sheet where the focus is; what reaches beyond the last row becomes new ones. */
async function put(block: string[][]) {
  const area = await selected()
  if (!area || block.length === 0) return
  const rows = await rowsShown()
  const one = block.length === 1 && block[0]!.length === 1
  const height = one ? area.y1 - area.y + 1 : Math.max(block.length, Math.floor((area.y1 - area.y + 1) / block.length) * block.length)
  const missing = area.y + height - rows.length
  const added = missing > 0 ? draft.add(missing) : []
  const all = [...rows, ...added]
  const cells: { row: Row; field: string; text: string }[] = []
  for (let i = 0; i < height; i++) {
    const line = block[i % block.length]!
    const across = one ? area.x1 - area.x + 1 : line.length
    for (let k = 0; k < across; k++) {
      const field = fieldAt(area.x + k)
      const row = all[area.y + i]
      if (field && row) cells.push({ row, field, text: line[k % line.length] ?? '' })
    }
  }
  draft.set(cells)
  if (added.length > 0) draft.join()
  changed(added.length > 0)
}

function addRows(n: number) {
  draft.add(n)
  changed(true)
  window.setTimeout(async () => {
    const rows = await rowsShown()
    const y = rows.findIndex((r) => !r._tag && !r.tag)
    const x = columns.value.findIndex((c) => (c as { prop: string }).prop === 'tag')
    if (y < 0) return
    await grid.value?.scrollToRow(y)
    await grid.value?.setCellsFocus({ x, y }, { x, y })
  }, 120)
}
async function turnRows() {
  const area = await selected()
  if (!area) return
  const rows = (await rowsShown()).slice(area.y, area.y1 + 1)
  draft.turn(rows)
  changed(true)
}
function undo() {
  draft.undo()
  changed(true)
}
function redo() {
  draft.redo()
  changed(true)
}
/** Changes cells for the search that replaces. */
function replace(cells: { row: Row; field: string; text: string }[]) {
  draft.set(cells)
  changed()
}
const searchable = () => view

/** The sheet's own keys, beside those of the grid. */
function key(event: KeyboardEvent) {
  const typing = event.target instanceof HTMLInputElement || event.target instanceof HTMLTextAreaElement
  if (!(event.ctrlKey || event.metaKey) || typing) return
  const act = (f: () => void) => {
    event.preventDefault()
    event.stopPropagation()
    f()
  }
  switch (event.key.toLowerCase()) {
    case 'z':
      return act(event.shiftKey ? redo : undo)
    case 'y':
      return act(redo)
    case 's':
      return act(() => void ask(false))
    case 'd':
      return act(async () => {
        const area = await selected()
        if (area && area.y1 > area.y) await fill(area, 1)
      })
    case 'enter':
      return act(async () => {
        const area = await selected()
        const rows = await rowsShown()
        const from = area && rows[area.y]
        if (!area || !from) return
        draft.set(Array.from({ length: area.y1 - area.y + 1 }, (_, i) => rows[area.y + i]!).flatMap((row) => Array.from({ length: area.x1 - area.x + 1 }, (_, k) => fieldAt(area.x + k)).flatMap((field) => (field ? [{ row, field, text: String(from[field] ?? '') }] : []))))
        changed()
      })
  }
}

/** Says to who hears the page what the parts of the head are. */
function label() {
  for (const row of at.value?.querySelectorAll('.header-rgRow') ?? []) {
    if (row.children.length > 0) row.setAttribute('role', 'row')
    for (const cell of row.children) cell.setAttribute('role', 'columnheader')
  }
  for (const button of at.value?.querySelectorAll('.rv-filter') ?? []) button.setAttribute('aria-label', t('sheet.filter'))
  const mark = at.value?.querySelector('revo-grid > a, revogr-attribution a')
  mark?.setAttribute('aria-hidden', 'true')
  mark?.setAttribute('tabindex', '-1')
}

/** Keys are the grid's only as long as nothing else takes text. */
function elsewhere(event: FocusEvent) {
  const to = event.target
  if (to instanceof Element && to.matches('input, textarea, select') && !at.value?.contains(to)) void grid.value?.clearFocus()
}

onMounted(async () => {
  document.addEventListener('focusin', elsewhere)
  const loading = load() // while the grid's code comes
  await defineGrid()
  const element = document.createElement('revo-grid') as Grid
  element.range = true
  element.resize = true
  element.rowHeaders = { size: 48, cellProperties: () => ({ role: 'rowheader' }), columnProperties: () => ({ role: 'columnheader' }) } as never
  element.filter = true
  element.rowSize = rowHeight
  element.canFocus = true
  element.theme = dark.value ? 'darkCompact' : 'compact'
  element.columns = columns.value as never
  element.addEventListener('viewportscroll', scrolled)
  for (const event of ['aftergridrender', 'afterheaderrender', 'aftercolumnsset']) element.addEventListener(event, () => window.setTimeout(label, 0))
  element.addEventListener('aftersortingapply', () => void seen())
  element.addEventListener('aftertrimmed', () => void seen())
  element.addEventListener('afterfocus', (event) => {
    const { model, column } = (event as unknown as CustomEvent<{ model?: Row; column?: { prop: string } }>).detail
    if (at.value) at.value.dataset.focus = `${model?.tag ?? ''} ${column?.prop ?? ''}`
  })
  element.addEventListener('beforeedit', (event) => {
    const { model, prop, val } = (event as unknown as CustomEvent<{ model: Row; prop: string; val?: unknown }>).detail
    event.preventDefault()
    if (val === undefined) return
    draft.set([{ row: model, field: prop, text: String(val).trim() }])
    changed()
  })
  element.addEventListener('beforerangeedit', (event) => {
    const { data, models } = (event as unknown as CustomEvent<{ data: Record<number, Record<string, unknown>>; models: Record<number, Row> }>).detail
    event.preventDefault()
    draft.set(
      Object.entries(data).flatMap(([y, cells]) => {
        const row = models[Number(y)]
        return row ? Object.entries(cells).map(([field, text]) => ({ row, field, text: String(text ?? '').trim() })) : []
      }),
    )
    changed()
  })
  element.addEventListener('beforerange', (event) => {
    const { newRange, oldRange } = (event as unknown as CustomEvent<{ newRange: Area; oldRange: Area }>).detail
    event.preventDefault() // by the sheet's own series
    if (newRange.y1 > oldRange.y1) void fill({ ...newRange, x: oldRange.x, x1: oldRange.x1, y: oldRange.y }, oldRange.y1 - oldRange.y + 1)
  })
  element.addEventListener('beforepaste', (event) => {
    const { raw } = (event as unknown as CustomEvent<{ raw: string; event: ClipboardEvent }>).detail
    event.preventDefault()
    void put(pasted(raw))
  })
  at.value?.append(element)
  grid.value = element
  if (loaded.value !== 'no') look()
  window.setTimeout(paintedNow, 150)
  await loading
})
onBeforeUnmount(() => {
  document.removeEventListener('focusin', elsewhere)
  window.clearTimeout(asking)
  window.clearTimeout(seeing)
  window.clearTimeout(painting)
  window.clearTimeout(giving)
  grid.value?.remove()
})
watch(() => [props.search, props.branch], look)
watch(columns, () => {
  if (grid.value) grid.value.columns = columns.value as never
})
watch(dark, () => {
  if (grid.value) grid.value.theme = dark.value ? 'darkCompact' : 'compact'
})
defineExpose({ load, shownTags: () => view.flatMap((r) => (r._tag ? [r._tag] : [])) })
</script>

<template>
  <div class="sheet-page" @keydown.capture="key" @pointerdown.capture="pressed = Date.now()">
    <div class="tools">
      <el-button size="small" :disabled="!canUndo" data-test="sheet-undo" title="Ctrl Z" @click="undo">{{ t('sheet.undo') }}</el-button>
      <el-button size="small" :disabled="!canRedo" data-test="sheet-redo" title="Ctrl Y" @click="redo">{{ t('sheet.redo') }}</el-button>
      <el-button size="small" data-test="sheet-add" @click="addRows(1)">{{ t('sheet.add-row') }}</el-button>
      <el-button size="small" data-test="sheet-remove" @click="turnRows">{{ t('sheet.remove-rows') }}</el-button>
      <span v-if="news" class="news" role="status" data-test="sheet-news">{{ news }}</span>
      <span v-else-if="size === 0" class="quiet hint">{{ t('sheet.hint') }}</span>
      <span class="grow" />
      <span v-if="beside.others.value.length > 0" class="quiet others" data-test="sheet-others" :title="beside.others.value.map((o) => `${o.who}: ${o.tag}`).join('\n')">{{ t('people.edits-point', { who: beside.others.value[0]!.who, tag: beside.others.value[0]!.tag }) }}{{ beside.others.value.length > 1 ? ` +${beside.others.value.length - 1}` : '' }}</span>
      <template v-if="size > 0">
        <span data-test="sheet-counts">{{ t('sheet.counts', counts) }}</span>
        <el-button size="small" data-test="sheet-discard" @click="discard">{{ t('sheet.discard') }}</el-button>
        <el-button size="small" :loading="busy" :disabled="!outcome || outcome.faults_all > 0" data-test="sheet-propose" @click="propose">{{ t('proposals.propose') }}…</el-button>
        <el-button v-if="who.may('engineer')" size="small" type="primary" :loading="busy" :disabled="!outcome || outcome.faults_all > 0" data-test="sheet-save" title="Ctrl S" @click="ask(false)">{{ t('sheet.save') }}</el-button>
      </template>
    </div>
    <FindReplace v-if="finding" :rows="searchable" :fields="shownColumns.filter((f) => f !== 'value')" @replace="replace" @go="goTo" @closed="emit('found')" />
    <el-alert v-if="problem" :title="problem" type="error" show-icon @close="problem = ''" />
    <div v-if="outcome && outcome.faults_all > 0" class="faults" role="status" data-test="sheet-faults">
      <b>{{ t('sheet.faults', { n: outcome.faults_all }, outcome.faults_all) }}</b>
      <button v-for="f in faultLines" :key="f.text" type="button" @click="goTo(f.row, f.field)">{{ f.text }}</button>
      <template v-if="conflicts.length > 0">
        <el-button size="small" data-test="sheet-theirs" @click="takeTheirs">{{ t('sheet.take-theirs') }}</el-button>
        <el-button v-if="conflicts.length === outcome.faults_all" size="small" data-test="sheet-force" @click="ask(false, true)">{{ t('sheet.save-mine') }}</el-button>
      </template>
    </div>
    <div ref="at" v-loading="loaded === 'no' && !problem" class="grid" data-test="sheet" :data-loaded="loaded" />
  </div>
</template>

<style scoped>
.news {
  padding: 1px 8px;
  border-radius: 8px;
  font-size: 12px;
  background: var(--el-color-warning-light-9);
  color: var(--uncertain);
}
.sheet-page {
  display: flex;
  flex-direction: column;
  height: 100%;
  min-height: 0;
}
.tools {
  display: flex;
  align-items: center;
  gap: 6px;
  padding: 6px 8px;
  border-bottom: 1px solid var(--el-border-color-lighter);
}
.tools .el-button + .el-button {
  margin-left: 0;
}
.tools > span {
  white-space: nowrap;
}
.hint {
  font-size: 12px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.grow {
  flex: 1;
}
.grid {
  flex: 1;
  min-height: 0;
}
.faults {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 12px;
  padding: 5px 10px;
  background: var(--el-color-danger-light-9);
  border-bottom: 1px solid var(--el-color-danger);
  font-size: 13px;
}
.faults b {
  color: var(--bad);
}
.faults button:not(.el-button) {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: inherit;
  text-decoration: underline dotted;
  cursor: pointer;
  text-align: left;
}
.grid :deep(revo-grid) {
  height: 100%;
  font-size: 13px;
  --revo-grid-selection-border: var(--el-color-primary);
  --revo-grid-range-handle-bg: var(--el-color-primary);
  --revo-grid-temporary-selection-border: var(--el-color-primary);
  --revo-grid-temporary-range-border: var(--el-color-primary);
  --revo-grid-selection-bg: color-mix(in srgb, var(--el-color-primary) 12%, transparent);
  --revo-grid-cell-disabled-bg: transparent;
  --revo-grid-background: var(--el-bg-color);
  --revo-grid-text: var(--el-text-color-primary);
  --revo-grid-header-bg: var(--el-fill-color-light);
  --revo-grid-header-color: var(--el-text-color-secondary);
  --revo-grid-cell-border: var(--el-border-color-lighter);
  --revo-grid-header-border: var(--el-border-color);
  --revo-grid-primary: var(--el-color-primary);
  --revo-grid-focused-bg: color-mix(in srgb, var(--el-color-primary) 10%, transparent);
  --revo-grid-row-hover: var(--el-fill-color-light);
}
.grid :deep(.rgHeaderCell) {
  padding: 0 7px;
  font-size: 12.5px;
  font-weight: 500;
  color: var(--el-text-color-secondary);
}
.grid :deep(.rgCell) {
  padding: 0 7px;
}
.grid :deep(revo-grid revogr-header .rgHeaderCell.rgHeaderCell) {
  padding: 0;
}
.grid :deep(revo-grid revogr-header .rgHeaderCell .header-content.header-content) {
  padding: 0 7px;
  margin-right: 0;
}
.grid :deep(.rgHeaderCell .header-controls) {
  position: absolute;
  right: 0;
  top: 0;
  bottom: 0;
  margin: 0;
}
.grid :deep(.rgHeaderCell .rv-filter) {
  opacity: 0;
}
.grid :deep(.rgHeaderCell:hover .rv-filter),
.grid :deep(.rgHeaderCell .rv-filter.active),
.grid :deep(.rgHeaderCell .rv-filter:focus-visible) {
  opacity: 1;
}
.grid :deep(.rgCell:has(.open)) {
  padding: 0;
  text-overflow: clip;
}
.grid :deep(.rgCell.disabled) {
  background: transparent;
}
.grid :deep(.open) {
  border: 0;
  background: none;
  color: var(--el-text-color-secondary);
  cursor: pointer;
  padding: 0 4px;
}
.grid :deep(.typed) {
  background: var(--el-color-warning-light-9);
}
.grid :deep(.theirs) {
  box-shadow: inset 3px 0 0 var(--uncertain);
}
.others {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.grid :deep(.fresh) {
  background: var(--el-color-success-light-9);
}
.grid :deep(.gone) {
  text-decoration: line-through;
  color: var(--el-text-color-secondary);
}
.grid :deep(.wrong) {
  background: var(--el-color-danger-light-9);
  box-shadow: inset 0 0 0 1.5px var(--el-color-danger);
}
.grid :deep(.wrong)::after {
  content: '';
  position: absolute;
  top: 0;
  right: 0;
  border: 4px solid var(--el-color-danger);
  border-left-color: transparent;
  border-bottom-color: transparent;
}
.grid :deep(.live) {
  font-variant-numeric: tabular-nums;
}
.grid :deep(.live.good) {
  color: var(--good);
}
.grid :deep(.live.uncertain) {
  color: var(--uncertain);
}
.grid :deep(.live.bad) {
  color: var(--bad);
}
</style>
