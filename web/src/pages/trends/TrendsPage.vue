<script setup lang="ts">
import { Close, Download, Picture } from '@element-plus/icons-vue'
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRoute, useRouter } from 'vue-router'

import { api, message, type Plot } from '../../api/client'
import TagPicker from '../../components/TagPicker.vue'
import TrendChart, { type Mark } from '../../components/TrendChart.vue'
import { useLook } from '../../composables/useLook'
import { useMe } from '../../composables/useMe'
import { usePlot } from '../../composables/usePlot'
import { useSite } from '../../composables/useSite'
import { length, moment } from '../../time'
import { shown, strokeOf, valueAt, type Curve } from './scale'

const { t } = useI18n()
const route = useRoute()
const router = useRouter()
const site = useSite()
const me = useMe()
const { dark } = useLook()
void site.loadPoints()

// The address names all that is on screen.
const text = (name: string) => (typeof route.query[name] === 'string' ? (route.query[name] as string) : '')
const tags = computed(() => text('tags').split(',').filter(Boolean))
const last = computed(() => (text('from') ? undefined : Number(text('last') || 3600) * 1000))
const from = computed(() => Date.parse(text('from')))
const to = computed(() => Date.parse(text('to')))
const shared = computed(() => text('scale') === 'unit')
const number = (name: string) => (text(name) ? Number(text(name)) : undefined)
const a = computed(() => number('a'))
const b = computed(() => number('b'))
const active = computed(() => text('active') || tags.value[0])
function go(change: Record<string, string | undefined>) {
  const query = { ...route.query, ...change }
  for (const name of Object.keys(query)) if (!query[name]) delete query[name]
  void router.replace({ query })
}

const pixels = ref(900)
const area = ref<HTMLElement>()
watch(area, (el) => el && (pixels.value = Math.max(300, el.clientWidth - 90)))
const wanted = computed(() => (last.value ? { tags: tags.value, last: last.value } : { tags: tags.value, from: from.value, to: to.value }))
const { plot, problem, load } = usePlot(wanted, pixels)
const shownFrom = computed(() => (last.value && plot.value ? Date.parse(plot.value.from) : last.value ? Date.now() - last.value : from.value))
const shownTo = computed(() => (last.value && plot.value ? Date.parse(plot.value.to) : last.value ? Date.now() : to.value))

/** The plot with its curves in the order in which they were chosen, those without a record included. */
const ordered = computed<Plot | undefined>(() => {
  if (!plot.value) return undefined
  const by = new Map(plot.value.series.map((c) => [c.tag, c]))
  const none = (tag: string): Curve => ({ tag, unit: site.points.find((p) => p.tag === tag)?.unit ?? '', times: [], least: [], most: [], last: [], bad: [], count: 0, before: null, live: false })
  return { ...plot.value, series: tags.value.map((tag) => by.get(tag) ?? none(tag)) }
})

function add(tag: string) {
  if (!tags.value.includes(tag)) go({ tags: [...tags.value, tag].join(',') })
  else go({ active: tag })
}
function remove(tag: string) {
  go({ tags: tags.value.filter((other) => other !== tag).join(','), active: active.value === tag ? undefined : active.value })
}
function drop(event: DragEvent) {
  const tag = event.dataTransfer?.getData('text/plain')
  if (tag && site.points.some((p) => p.tag === tag)) add(tag)
}

const shortest = 1000
const longest = 20 * 366 * 86400_000
function window(begin: number, end: number) {
  if (end - begin < shortest || end - begin > longest) return
  go({ from: new Date(begin).toISOString(), to: new Date(end).toISOString(), last: undefined })
}
const range = computed({
  get: () => [new Date(shownFrom.value), new Date(shownTo.value)],
  set: (r: [Date, Date]) => r && window(r[0].getTime(), r[1].getTime()),
})
const spans = [
  { seconds: 300, name: '5m' },
  { seconds: 3600, name: '1h' },
  { seconds: 86400, name: '1d' },
  { seconds: 604800, name: '7d' },
]
function move(share: number) {
  const span = shownTo.value - shownFrom.value
  window(shownFrom.value + share * span, shownTo.value + share * span)
}
function zoom(factor: number) {
  const middle = (shownFrom.value + shownTo.value) / 2
  const half = ((shownTo.value - shownFrom.value) * factor) / 2
  window(middle - half, middle + half)
}

/** A click sets the first reading line, and one with the shift key the second. */
function place(at: number, second: boolean) {
  const name = second ? 'b' : 'a'
  go({ [name]: String(Math.round(at)) })
}
const hover = ref<number>()
const marks = shallowRef<Mark[]>([])
/** Commands and events of the points that are shown. */
async function loadMarks() {
  const [begin, end] = [shownFrom.value, shownTo.value]
  try {
    const of = tags.value.slice(0, 12)
    const writes = await Promise.all(of.map((tag) => api.writesOf(tag)))
    const events = await Promise.all(of.map((tag) => api.events({ tag, from: new Date(begin).toISOString(), until: new Date(end).toISOString(), limit: 200 })))
    marks.value = [
      ...writes.flat().map((w) => ({ at: Date.parse(w.time), text: `${w.tag}: ${w.tried || String(w.sent ?? '')} (${w.who}, ${w.outcome})`, kind: 'write' as const })),
      ...events.flatMap((e) => e.items).map((e) => ({ at: Date.parse(e.source_time ?? e.time), text: `${e.tag}: ${e.text} ${e.unit}`, kind: 'event' as const })),
    ].filter((m) => m.at >= begin && m.at <= end)
  } catch {
    marks.value = [] // the chart itself says when the service does not answer
  }
}
watch([tags, from, to, last], () => void loadMarks(), { immediate: true })
const near = computed(() => (hover.value === undefined ? [] : marks.value.filter((m) => Math.abs(m.at - hover.value!) < (shownTo.value - shownFrom.value) / 150)))

const rows = computed(() =>
  (ordered.value?.series ?? []).map((curve, i) => {
    const at = (time?: number) => (time === undefined ? undefined : valueAt(curve, ordered.value!, time))
    const [first, second] = [at(a.value), at(b.value)]
    const numbers = (list: (number | null)[]) => list.filter((v): v is number => v !== null)
    return { curve, i, now: at(hover.value ?? shownTo.value), first, second, difference: first != null && second != null ? second - first : undefined, least: Math.min(...numbers(curve.least)), most: Math.max(...numbers(curve.most)), bad: curve.bad.reduce((sum, n) => sum + n, 0) }
  }),
)
/** A value of a curve in words. */
function say(curve: Curve, v: number | null | undefined) {
  if (v === null) return t('trends.bad')
  if (v === undefined || !Number.isFinite(v)) return '–'
  const names = curve.states as string[] | Record<string, string> | null | undefined
  const name = names && (Array.isArray(names) ? names[v] : names[String(v)])
  return name || `${shown(v)}${curve.unit ? ` ${curve.unit}` : ''}`
}

const saving = ref('')
async function record(tag: string) {
  try {
    await api.changePoints({ tags: [tag], set: { record: true } })
    saving.value = ''
    void load()
  } catch (error) {
    saving.value = message(error)
  }
}

const chart = ref<InstanceType<typeof TrendChart>>()
function picture() {
  const canvas = chart.value?.picture()
  if (!canvas) return
  const out = document.createElement('canvas')
  const scale = devicePixelRatio
  const line = 18 * scale
  const strips = chart.value!.strips()
  const { left, width } = chart.value!.inside()
  out.width = canvas.width
  out.height = canvas.height + line * (rows.value.length + 2 + 2 * strips.length)
  const c = out.getContext('2d')!
  c.fillStyle = getComputedStyle(document.documentElement).getPropertyValue('--el-bg-color')
  c.fillRect(0, 0, out.width, out.height)
  c.drawImage(canvas, 0, 0)
  c.font = `${13 * scale}px sans-serif`
  let y = canvas.height
  const ink = getComputedStyle(document.documentElement).getPropertyValue('--el-text-color-primary')
  for (const strip of strips) {
    y += line
    c.fillStyle = ink
    c.fillText(strip.tag, left * scale, y - 4 * scale)
    for (const b of strip.bands) {
      const x = (left + (b.left / 100) * width) * scale
      const w = (b.width / 100) * width * scale
      c.globalAlpha = b.bad ? 1 : b.depth
      c.fillStyle = strip.colour
      if (!b.bad) c.fillRect(x, y, w, line - 3 * scale)
      c.globalAlpha = 1
      c.strokeStyle = ink
      if (b.bad) c.strokeRect(x, y, w, line - 3 * scale)
      c.fillStyle = ink
      if (w > c.measureText(b.text).width + 6) c.fillText(b.text, x + 3, y + 12 * scale)
    }
    y += line
  }
  y += line
  c.fillStyle = ink
  c.fillText(`${moment(shownFrom.value, longest)} – ${moment(shownTo.value, longest)}`, 12 * scale, y)
  for (const r of rows.value) {
    y += line
    c.fillStyle = strokeOf(r.i, dark.value).colour
    c.fillRect(12 * scale, y - 9 * scale, 16 * scale, 4 * scale)
    c.fillStyle = ink
    c.fillText(`${r.curve.tag}  ${say(r.curve, r.least)} … ${say(r.curve, r.most)}`, 36 * scale, y)
  }
  const link = document.createElement('a')
  link.href = out.toDataURL('image/png')
  link.download = 'trend.png'
  link.click()
}
const csv = computed(() => {
  const query = new URLSearchParams(tags.value.map((tag) => ['tag', tag]))
  query.set('from', new Date(shownFrom.value).toISOString())
  query.set('to', new Date(shownTo.value).toISOString())
  return `/api/v1/history/export?${query}`
})
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('pages.trends') }}</h1>
      <el-radio-group :model-value="last ? last / 1000 : 0" :aria-label="t('trends.following')" @change="(s: unknown) => go({ last: String(s), from: undefined, to: undefined })">
        <el-radio-button v-for="s in spans" :key="s.seconds" :value="s.seconds" :data-test="`last-${s.name}`">{{ t(`trends.last-${s.name}`) }}</el-radio-button>
      </el-radio-group>
      <el-button-group>
        <el-button :aria-label="t('trends.earlier')" :title="t('trends.earlier')" data-test="earlier" @click="move(-0.5)">◂</el-button>
        <el-button :aria-label="t('trends.longer')" :title="t('trends.longer')" @click="zoom(2)">−</el-button>
        <el-button :aria-label="t('trends.shorter')" :title="t('trends.shorter')" data-test="shorter" @click="zoom(0.5)">+</el-button>
        <el-button :aria-label="t('trends.later')" :title="t('trends.later')" @click="move(0.5)">▸</el-button>
      </el-button-group>
      <el-date-picker v-model="range" type="datetimerange" :clearable="false" format="MM-DD HH:mm" style="max-width: 216px" :aria-label="t('trends.window')" />
      <el-button plain :type="shared ? 'primary' : undefined" data-test="scale" @click="go({ scale: shared ? undefined : 'unit' })">{{ t(shared ? 'trends.by-unit' : 'trends.own') }}</el-button>
      <span class="out">
        <el-button :icon="Picture" :disabled="!plot" :title="t('trends.picture')" :aria-label="t('trends.picture')" data-test="picture" @click="picture" />
        <a :href="csv" download="trend.csv" data-test="csv"><el-button :icon="Download" :disabled="tags.length === 0" title="CSV" aria-label="CSV" /></a>
      </span>
    </div>
    <el-alert v-if="problem || saving" :title="problem || saving" type="error" :closable="false" show-icon />
    <el-alert v-for="f in plot?.faults ?? []" :key="f.month" :title="`${f.month}: ${f.fault}`" type="warning" :closable="false" show-icon />
    <div class="columns fill">
      <TagPicker class="panel" :tags="site.points.map((p) => p.tag)" :chosen="tags" @pick="add" />
      <div ref="area" class="panel fill area" @dragover.prevent @drop.prevent="drop">
        <el-empty v-if="tags.length === 0" :description="t('trends.none')" />
        <template v-else-if="ordered">
          <div class="drawn">
            <TrendChart ref="chart" :plot="ordered" :from="shownFrom" :to="shownTo" :shared="shared" :active="active" :marks="marks" :a="a" :b="b" @window="window" @cursor="place" @hover="hover = $event" />
            <div v-if="near.length" class="near">
              <div v-for="(m, n) in near.slice(0, 4)" :key="n">{{ m.kind === 'write' ? '▼' : '◆' }} {{ moment(m.at, shownTo - shownFrom) }} {{ m.text }}</div>
            </div>
          </div>
          <div class="read">
            <table data-test="trend-table">
              <thead>
                <tr>
                  <th />
                  <th>{{ t('columns.tag') }}</th>
                  <th class="right">{{ hover === undefined ? t('trends.at-end') : moment(hover, shownTo - shownFrom) }}</th>
                  <th class="right"><template v-if="a">A {{ moment(a, shownTo - shownFrom) }} <button type="button" class="plain" :aria-label="t('trends.take-away')" @click="go({ a: undefined })">✕</button></template><span v-else class="quiet">{{ t('trends.set-a') }}</span></th>
                  <th class="right"><template v-if="b">B {{ moment(b, shownTo - shownFrom) }} <button type="button" class="plain" :aria-label="t('trends.take-away')" @click="go({ b: undefined })">✕</button></template><span v-else class="quiet">{{ t('trends.set-b') }}</span></th>
                  <th class="right">B − A<template v-if="a && b">, {{ length(b - a) }}</template></th>
                  <th class="right">{{ t('trends.least') }}</th>
                  <th class="right">{{ t('trends.most') }}</th>
                  <th />
                </tr>
              </thead>
              <tbody>
                <tr v-for="r in rows" :key="r.curve.tag" :class="{ active: r.curve.tag === active }" @click="go({ active: r.curve.tag })">
                  <td><svg width="26" height="8" aria-hidden="true"><line x1="0" y1="4" x2="26" y2="4" :stroke="strokeOf(r.i, dark).colour" stroke-width="3" :stroke-dasharray="strokeOf(r.i, dark).dash.join(' ')" /></svg></td>
                  <td class="tag">
                    <router-link :to="{ path: '/live', query: { point: r.curve.tag } }" @click.stop>{{ r.curve.tag }}</router-link>
                    <span v-if="r.curve.since || (r.curve.count === 0 && !r.curve.live)" class="quiet kept" :title="r.curve.since ? t('trends.kept-means') : ''">{{ r.curve.since ? t('trends.kept-since', { time: moment(Date.parse(r.curve.since), 3600_000) }) : t('trends.not-recorded') }} <el-button v-if="me.may('engineer') && !r.curve.tag.startsWith('@')" size="small" data-test="record" @click.stop="record(r.curve.tag)">{{ t('trends.record') }}</el-button></span>
                    <span v-else-if="r.bad" class="bad" :title="t('trends.bad-samples')">✕ {{ r.bad }}</span>
                  </td>
                  <td class="right number">{{ say(r.curve, r.now) }}</td>
                  <td class="right number">{{ a ? say(r.curve, r.first) : '' }}</td>
                  <td class="right number">{{ b ? say(r.curve, r.second) : '' }}</td>
                  <td class="right number">{{ r.difference === undefined || r.curve.states ? '' : shown(r.difference) }}</td>
                  <td class="right number">{{ say(r.curve, r.least) }}</td>
                  <td class="right number">{{ say(r.curve, r.most) }}</td>
                  <td><el-button text circle size="small" :icon="Close" :aria-label="t('trends.remove', { tag: r.curve.tag })" @click.stop="remove(r.curve.tag)" /></td>
                </tr>
              </tbody>
            </table>
          </div>
        </template>
      </div>
    </div>
  </div>
</template>

<style scoped>
.area {
  display: flex;
  flex-direction: column;
  padding: 6px 0 0;
}
.drawn {
  position: relative;
  flex: 1;
  min-height: 160px;
}
.near {
  position: absolute;
  top: 6px;
  right: 20px;
  padding: 4px 10px;
  font-size: 12px;
  background: var(--el-bg-color);
  border: 1px solid var(--el-border-color-lighter);
  border-radius: 5px;
  pointer-events: none;
}
.read {
  flex: none;
  max-height: 38%;
  overflow: auto;
  border-top: 1px solid var(--el-border-color-lighter);
}
table {
  width: 100%;
  border-collapse: collapse;
  font-size: 13px;
}
th {
  position: sticky;
  top: 0;
  z-index: 1;
  text-align: left;
  font-weight: 600;
  background: var(--el-bg-color);
}
th,
td {
  padding: 3px 8px;
  white-space: nowrap;
}
.tag {
  width: 99%;
}
.tag a {
  color: inherit;
}
.right {
  text-align: right;
}
tr.active td {
  background: var(--el-color-primary-light-9);
}
.out {
  display: flex;
  gap: 6px;
  margin-left: auto;
}
.kept {
  margin-left: 8px;
}
.bad {
  color: var(--bad);
  margin-left: 8px;
}
.plain {
  border: 0;
  background: none;
  color: inherit;
  cursor: pointer;
  padding: 0 2px;
}
</style>
