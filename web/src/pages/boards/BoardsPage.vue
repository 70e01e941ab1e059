<script setup lang="ts">
import { FullScreen, Lock, Plus, Unlock } from '@element-plus/icons-vue'
import { ElMessage, ElMessageBox } from 'element-plus'
import { GridItem, GridLayout } from 'grid-layout-plus'
import { computed, onBeforeUnmount, onMounted, onScopeDispose, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, ApiProblem, message, type Board, type Point } from '../../api/client'
import TagPicker from '../../components/TagPicker.vue'
import { useNow } from '../../composables/useEvery'
import { useLive } from '../../composables/useLive'
import { useMe } from '../../composables/useMe'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import { useTogether } from '../../composables/useTogether'
import BoardDisplay from './BoardDisplay.vue'
import DisplayForm from './DisplayForm.vue'
import { imageOf, mostOctets } from './image'
import { merge } from './merge'
import { columns, gap, place, rowHeight, sizeOf, suits, type Display } from './display'

const { t } = useI18n()
const site = useSite()
const me = useMe()
const now = useNow()
const name = useQuery('board')
const edit = useQuery('edit')
void site.loadPoints()
void site.loadStations()

const boards = shallowRef<Board[]>([])
const loaded = ref(false)
const problem = ref('')
const chosen = ref<number>()
/** The board that is shown; while it is edited, a copy of it. */
const board = ref<Board>()
const version = ref('')
/** The board as it was when it was begun to be edited. */
const began = shallowRef<Board>()
const changed = ref(false)
const editing = computed(() => Boolean(edit.value) && me.may('engineer') && !board.value?.locked)

async function loadAll() {
  try {
    boards.value = await api.boards()
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
  loaded.value = true
  if (!name.value && boards.value[0]) name.value = boards.value[0].name
}
async function load() {
  chosen.value = undefined
  changed.value = false
  if (!name.value) return (board.value = undefined)
  try {
    const got = await api.get<Board>('board', name.value)
    board.value = began.value = got.answer
    version.value = got.version
    problem.value = ''
  } catch (error) {
    board.value = undefined
    problem.value = message(error)
  }
}
void loadAll()
watch(name, load, { immediate: true })
const together = useTogether()
onScopeDispose(
  together.follow((news) => {
    if (!news.touches('board')) return
    void loadAll()
    if (!changed.value) void load()
  }),
)

const displays = computed(() => board.value?.displays ?? [])
const tags = computed(() => [...new Set(displays.value.flatMap((d) => [d.tag ?? '', ...(d.tags ?? [])]).filter(Boolean))])
const { readings, connected } = useLive(tags)
const points = computed(() => new Map<string, Point>(site.points.map((p) => [p.tag, p])))

function put(list: Display[]) {
  if (!board.value) return
  board.value = { ...board.value, displays: list }
  changed.value = true
}
type Item = { i: number; x: number; y: number; w: number; h: number }
const layout = computed<Item[]>(() => displays.value.map((d, i) => ({ i, x: d.x, y: d.y, w: d.w, h: d.h })))
function moved(items: { i: string | number; x: number; y: number; w: number; h: number }[]) {
  if (!editing.value) return
  let other = false
  const list = displays.value.map((d, n) => {
    const item = items.find((it) => Number(it.i) === n)
    if (!item || (item.x === d.x && item.y === d.y && item.w === d.w && item.h === d.h)) return d
    other = true
    return { ...d, x: item.x, y: item.y, w: item.w, h: item.h }
  })
  if (other) put(list)
}
function add(d: Omit<Display, 'x' | 'y' | 'w' | 'h'>, x = 0, y = 0) {
  const [w, h] = sizeOf(d.show)
  put([...displays.value, { ...d, w, h, ...place(displays.value, w, h, x, y) }])
  chosen.value = displays.value.length - 1
}
function drop(tag: string, x = 0, y = 0) {
  const p = points.value.get(tag)
  if (p) add({ show: suits(p)[0]!, tag }, x, y)
}
const grid = ref<HTMLElement>()
function dropped(event: DragEvent) {
  const tag = event.dataTransfer?.getData('text/plain')
  if (!tag || !grid.value) return
  const box = grid.value.getBoundingClientRect()
  drop(tag, Math.max(0, Math.floor(((event.clientX - box.left) / box.width) * columns)), Math.max(0, Math.floor((event.clientY - box.top) / (rowHeight + gap))))
}
function change(d: Display) {
  put(displays.value.map((other, i) => (i === chosen.value ? d : other)))
}
function takeAway() {
  put(displays.value.filter((_, i) => i !== chosen.value))
  chosen.value = undefined
}

watch([editing, name], ([on, of]) => (on && of ? together.edits('board', of) : together.edits()), { immediate: true })
onBeforeUnmount(() => together.edits())

const fault = ref('')
/** What others changed meanwhile, and is put together with what is changed here. */
const meanwhile = ref('')
async function save() {
  if (!board.value) return
  try {
    await api.set('board', board.value.name, { displays: board.value.displays, sketch: board.value.sketch ?? null }, version.value)
    fault.value = meanwhile.value = ''
    edit.value = ''
    await load()
  } catch (error) {
    if (error instanceof ApiProblem && error.stale) await join()
    else fault.value = message(error)
  }
}
/** Puts what others changed meanwhile together with what is changed here. Where both changed the same, one looks at it before it is saved. */
async function join() {
  const mine = board.value!
  const was = began.value!
  try {
    const got = await api.get<Board>('board', mine.name)
    const theirs = got.answer
    const { displays, conflicts } = merge(was.displays ?? [], theirs.displays ?? [], mine.displays ?? [])
    const drawn = JSON.stringify(mine.sketch ?? null) === JSON.stringify(was.sketch ?? null) ? theirs.sketch : mine.sketch
    if (drawn === mine.sketch && ![JSON.stringify(was.sketch ?? null), JSON.stringify(mine.sketch ?? null)].includes(JSON.stringify(theirs.sketch ?? null))) conflicts.push({ display: t('boards.sketch'), field: '', theirs: '', mine: '' })
    board.value = { ...theirs, displays, sketch: drawn }
    began.value = theirs
    version.value = got.version
    chosen.value = undefined
    changed.value = true
    if (conflicts.length === 0) return void (await save())
    meanwhile.value = t('boards.both', { text: conflicts.slice(0, 5).map((c) => (c.field ? `${c.display}, ${c.field}: ${JSON.stringify(c.theirs ?? null)} → ${JSON.stringify(c.mine ?? null)}` : c.display)).join('; ') })
  } catch (error) {
    fault.value = message(error)
  }
}
async function leave() {
  edit.value = ''
  fault.value = ''
  meanwhile.value = ''
  await load()
}
async function lock(on: boolean) {
  try {
    await api.set('board', name.value, { locked: on })
    await load()
  } catch (error) {
    problem.value = message(error)
  }
}
async function ask(title: string, text: string, value = '') {
  try {
    return (await ElMessageBox.prompt(text, title, { inputValue: value, confirmButtonText: t('boards.make'), cancelButtonText: t('common.leave-it') })).value?.trim()
  } catch {
    return undefined
  }
}
async function made(f: () => Promise<{ name: string }>, open: string) {
  try {
    const b = await f()
    await loadAll()
    name.value = b.name
    edit.value = open
  } catch (error) {
    problem.value = message(error)
  }
}
async function more(what: string) {
  if (what === 'new') {
    const to = await ask(t('boards.new-board'), t('boards.name'))
    if (to) await made(() => api.add<Board>('board', { name: to }), 'yes')
  } else if (what === 'copy') {
    const to = await ask(t('boards.copy'), t('boards.name'), `${name.value}-copy`)
    if (!to) return
    const tags = await ask(t('boards.copy'), t('boards.copy-tags'), '')
    if (tags === undefined) return
    const [from, by] = tags.split('=')
    await made(() => api.copyBoard(name.value, { name: to, tags: from ? { from, to: by ?? '' } : undefined }), '')
  } else if (what === 'remove') {
    try {
      await ElMessageBox.confirm(t('common.remove-really', { name: name.value }), { confirmButtonText: t('common.remove'), cancelButtonText: t('common.keep'), type: 'warning' })
    } catch {
      return
    }
    try {
      await api.remove('board', name.value)
      name.value = ''
      await loadAll()
    } catch (error) {
      problem.value = message(error)
    }
  } else if (what.startsWith('station ')) {
    const of = what.slice(8)
    await made(() => api.makeBoard(of), '')
  }
}
async function sketch(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file || !board.value) return
  if (file.size > mostOctets) {
    ElMessage({ type: 'error', message: t('boards.too-large') })
    return
  }
  board.value = { ...board.value, sketch: await imageOf(file) }
  changed.value = true
  ;(event.target as HTMLInputElement).value = '' // so that the same file can be chosen again
}
const background = computed(() => (board.value?.sketch ? `data:${board.value.sketch.media};base64,${board.value.sketch.data}` : ''))

const stage = ref<HTMLElement>()
const full = () => void stage.value?.requestFullscreen()
/** On a narrow screen the displays stand one below the other. */
const narrow = ref(false)
let observer: ResizeObserver | undefined
onMounted(() => {
  observer = new ResizeObserver(() => (narrow.value = (stage.value?.clientWidth ?? 1000) < 560))
  observer.observe(stage.value!)
})
onBeforeUnmount(() => observer?.disconnect())
const stacked = computed(() => displays.value.map((d, i) => ({ d, i })).sort((a, b) => a.d.y - b.d.y || a.d.x - b.d.x))
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('pages.boards') }}</h1>
      <el-select v-model="name" filterable :placeholder="t('boards.none-chosen')" style="width: 200px" :aria-label="t('pages.boards')" data-test="board" :disabled="changed"><el-option v-for="b in boards" :key="b.name" :value="b.name" :label="b.name" /></el-select>
      <span v-if="!editing" class="quiet about">{{ board?.description }}</span>
      <span class="grow" />
      <span v-if="!connected && tags.length" class="lost">{{ t('live.not-connected-to-the-service-trying') }}</span>
      <template v-if="editing">
        <el-button size="default" @click="add({ show: 'text', text: t('boards.words') })">{{ t('boards.shows.text') }}</el-button>
        <label class="file">{{ t('boards.sketch') }}…<input type="file" accept=".svg,.png" data-test="sketch-file" @change="sketch" /></label>
        <el-button v-if="board?.sketch" data-test="sketch-away" @click="((board = { ...board, sketch: undefined }), (changed = true))">{{ t('boards.without-sketch') }}</el-button>
        <el-button @click="leave">{{ t('common.leave-it') }}</el-button>
        <el-button type="primary" data-test="save-board" :disabled="!changed" @click="save">{{ t('common.save') }}</el-button>
      </template>
      <template v-else>
        <el-button :icon="FullScreen" :title="t('boards.full')" :aria-label="t('boards.full')" :disabled="!board" @click="full" />
        <template v-if="me.may('engineer')">
          <el-button v-if="board" :icon="board.locked ? Lock : Unlock" :title="t(board.locked ? 'boards.unlock' : 'boards.lock')" :aria-label="t(board.locked ? 'boards.unlock' : 'boards.lock')" data-test="lock" @click="lock(!board.locked)" />
          <el-button v-if="board && !board.locked" data-test="edit-board" @click="edit = 'yes'">{{ t('boards.edit') }}</el-button>
          <el-dropdown trigger="click" @command="more">
            <el-button :icon="Plus" :aria-label="t('boards.more')" data-test="more" />
            <template #dropdown>
              <el-dropdown-menu>
                <el-dropdown-item command="new">{{ t('boards.new-board') }}…</el-dropdown-item>
                <el-dropdown-item v-if="board" command="copy">{{ t('boards.copy') }}…</el-dropdown-item>
                <el-dropdown-item v-if="board && !board.locked" command="remove">{{ t('common.remove') }}…</el-dropdown-item>
                <el-dropdown-item v-for="(s, i) in site.stations.slice(0, 30)" :key="s.name" :divided="i === 0" :command="`station ${s.name}`">{{ t('boards.of-station', { station: s.name }) }}</el-dropdown-item>
              </el-dropdown-menu>
            </template>
          </el-dropdown>
        </template>
      </template>
    </div>
    <el-alert v-if="problem || fault" :title="problem || fault" type="error" :closable="false" show-icon />
    <el-alert v-if="meanwhile" :title="meanwhile" type="warning" :closable="false" show-icon data-test="both" />
    <el-alert v-if="editing && name && together.editing('board', name).length > 0" :title="t('people.edits-too', { who: together.editing('board', name).join(', ') })" type="warning" :closable="false" show-icon data-test="edits-too" />
    <div class="columns fill">
      <TagPicker v-if="editing" class="panel" :tags="site.points.map((p) => p.tag)" :chosen="tags" @pick="drop" />
      <div ref="stage" class="stage fill" data-test="stage">
        <el-empty v-if="loaded && !board" :description="t('boards.none')" />
        <div v-else-if="board && narrow && !editing" class="stack">
          <div v-for="{ d, i } in stacked" :key="i" :style="{ height: `${d.h * (rowHeight + gap) - gap}px` }"><BoardDisplay :display="d" :points="points" :reading="d.tag ? readings.get(d.tag) : undefined" :readings="readings" :now="now" :locked="board.locked ?? false" /></div>
        </div>
        <div v-else-if="board" ref="grid" class="grid" :class="{ editing }" @dragover.prevent @drop.prevent="dropped">
          <img v-if="background" class="sketch" :src="background" :alt="t('boards.sketch')" />
          <GridLayout :layout="layout" :col-num="columns" :row-height="rowHeight" :margin="[gap, gap]" :is-draggable="editing" :is-resizable="editing" :vertical-compact="false" prevent-collision use-css-transforms @layout-updated="moved">
            <GridItem v-for="item in layout" :key="item.i" :i="item.i" :x="item.x" :y="item.y" :w="item.w" :h="item.h" drag-ignore-from="input, .el-slider" :class="{ chosen: editing && chosen === item.i }" @click="editing && (chosen = item.i)">
              <BoardDisplay :display="displays[item.i]!" :points="points" :reading="displays[item.i]!.tag ? readings.get(displays[item.i]!.tag!) : undefined" :readings="readings" :now="now" :locked="editing || (board.locked ?? false)" :class="{ still: editing }" />
            </GridItem>
          </GridLayout>
        </div>
      </div>
      <DisplayForm v-if="editing && chosen !== undefined && displays[chosen]" :model-value="displays[chosen]!" :point="displays[chosen]!.tag ? points.get(displays[chosen]!.tag!) : undefined" :tags="site.points.map((p) => p.tag)" @update:model-value="change" @remove="takeAway" />
    </div>
  </div>
</template>

<style scoped>
.stage {
  overflow: auto;
  background: var(--el-bg-color-page);
}
.grid {
  position: relative;
  min-height: 100%;
}
.grid.editing {
  background-image: linear-gradient(var(--el-border-color-lighter) 1px, transparent 1px);
  background-size: 100% 38px;
}
.sketch {
  position: absolute;
  inset: 0;
  width: 100%;
  pointer-events: none;
}
.chosen {
  outline: 2px solid var(--el-color-primary);
  border-radius: 6px;
}
.still {
  pointer-events: none;
}
.stack {
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.about {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.file {
  display: inline-block;
  padding: 0 14px;
  line-height: 30px;
  border: 1px solid var(--el-border-color);
  border-radius: 5px;
  cursor: pointer;
}
.file input {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
}
</style>
