<script setup lang="ts">
import 'uplot/dist/uPlot.min.css'
import uPlot from 'uplot'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Plot } from '../api/client'
import { useLook } from '../composables/useLook'
import { rangeOf, shown, strokeOf, type Curve } from '../pages/trends/scale'
import { moment } from '../time'

/** Something that happened at a moment, which is marked above. */
export interface Mark {
  at: number
  text: string
  kind: 'write' | 'event'
}

// Points on one time axis: numbers as lines that hold until the next value, with the least and the most of each column; states as bands below.
// Where nothing was recorded is hatched; where a value was bad, its line is dotted at the last good one and begins with a cross.
const props = defineProps<{
  plot: Plot
  /** The window that is shown, which may have moved on since the plot was made. */
  from: number
  to: number
  /** A scale for each unit, or each point its own. */
  shared?: boolean
  /** The tag whose scale is shown, where each has its own. */
  active?: string
  marks?: Mark[]
  a?: number
  b?: number
  /** Without scales and reading out, for the panel of a point. */
  small?: boolean
}>()
const emit = defineEmits<{ window: [from: number, to: number]; cursor: [at: number, second: boolean]; hover: [at: number | undefined] }>()

const { t } = useI18n()
const { dark } = useLook()
const box = ref<HTMLDivElement>()
const lanes = computed(() => props.plot.series.map((curve, i) => ({ curve, i })).filter(({ curve }) => curve.states))
const lines = computed(() => props.plot.series.map((curve, i) => ({ curve, i })).filter(({ curve }) => !curve.states))
const inner = ref({ left: 0, width: 100 })

let u: uPlot | undefined
let observer: ResizeObserver | undefined

const css = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()
const scaleOf = (curve: Curve) => (props.shared ? `unit ${curve.unit}` : `tag ${curve.tag}`)
const gaps = computed(() => props.plot.gaps.map((g) => ({ from: Date.parse(g.from), to: Date.parse(g.to), why: g.why })))

/** Until when the last value of a curve is known to have held. */
function until(curve: Curve) {
  return Math.min(props.to, Date.parse(props.plot.to), curve.live ? Infinity : (curve.times.at(-1) ?? 0) + props.plot.step)
}

/** Calls f with the stretches in which a curve has a value, and a state of bad, one after the other. */
function stretches(curve: Curve, f: (from: number, to: number, value: number | null, bad: boolean, held: number | null) => void) {
  let at = Date.parse(props.plot.from)
  let value: number | null = curve.before ?? null
  let bad = false
  let held = value
  const put = (end: number) => {
    let from = at
    for (const g of gaps.value) {
      if (g.from >= end || g.to <= from) continue
      if (g.from > from) f(from, g.from, value, bad, held)
      from = end // what was before the gap is not known to go on behind it
    }
    if (from < end) f(from, end, value, bad, held)
  }
  curve.times.forEach((time, i) => {
    put(time)
    at = time
    value = curve.last[i] ?? null
    bad = value === null
    if (value !== null) held = value
  })
  const end = until(curve)
  if (end > at) put(end)
}

/** The line of a curve. */
function path(curve: Curve) {
  return (chart: uPlot, index: number) => {
    const stroke = new Path2D()
    const scale = chart.series[index]!.scale!
    const x = (time: number) => chart.valToPos(time / 1000, 'x', true)
    const y = (value: number) => chart.valToPos(value, scale, true)
    let ended = -Infinity
    let height = NaN
    stretches(curve, (from, to, value) => {
      if (value === null) return
      const now = y(value)
      if (from === ended && !Number.isNaN(height)) stroke.lineTo(x(from), now)
      else stroke.moveTo(x(from), now)
      stroke.lineTo(x(to), now)
      ended = to
      height = now
    })
    curve.times.forEach((time, i) => {
      const [least, most] = [curve.least[i], curve.most[i]]
      if (least === null || most === null || least === undefined || most === undefined || least === most) return
      stroke.moveTo(x(time), y(least))
      stroke.lineTo(x(time), y(most))
    })
    return { stroke, fill: null, clip: null, band: null, gaps: null, flags: 1 } as unknown as uPlot.Series.Paths
  }
}

let hatch: CanvasPattern | null = null
function hatching(context: CanvasRenderingContext2D) {
  const tile = document.createElement('canvas')
  tile.width = tile.height = 8 * devicePixelRatio
  const c = tile.getContext('2d')!
  c.strokeStyle = css('--idle')
  c.globalAlpha = 0.5
  c.lineWidth = devicePixelRatio
  const n = tile.width
  for (const shift of [-n, 0, n]) {
    c.beginPath()
    c.moveTo(shift, n)
    c.lineTo(shift + n, 0)
    c.stroke()
  }
  return context.createPattern(tile, 'repeat')
}

/** What stands behind and before the lines. */
function furnish(chart: uPlot) {
  const c = chart.ctx
  const { left, top, width, height } = chart.bbox
  const x = (time: number) => chart.valToPos(time / 1000, 'x', true)
  c.save()
  c.beginPath()
  c.rect(left, top, width, height)
  c.clip()
  hatch ??= hatching(c)
  for (const g of gaps.value) {
    const [from, to] = [Math.max(x(g.from), left), Math.min(x(g.to), left + width)]
    if (to <= from || !hatch) continue
    c.fillStyle = hatch
    c.fillRect(from, top, Math.max(to - from, 2), height)
  }
  for (const { curve, i } of lines.value) {
    const s = strokeOf(i, dark.value)
    const scale = scaleOf(curve)
    c.strokeStyle = s.colour
    c.lineWidth = 1.5 * devicePixelRatio
    stretches(curve, (from, to, _, bad, held) => {
      if (!bad) return
      const y = held === null ? top + height - 6 : chart.valToPos(held, scale, true)
      const r = 3.5 * devicePixelRatio
      c.setLineDash([])
      c.beginPath()
      c.moveTo(x(from) - r, y - r)
      c.lineTo(x(from) + r, y + r)
      c.moveTo(x(from) + r, y - r)
      c.lineTo(x(from) - r, y + r)
      c.stroke()
      c.setLineDash([1, 4].map((n) => n * devicePixelRatio))
      c.beginPath()
      c.moveTo(x(from), y)
      c.lineTo(x(to), y)
      c.stroke()
    })
  }
  c.setLineDash([])
  for (const m of props.marks ?? []) {
    const at = x(m.at)
    const r = 5 * devicePixelRatio
    c.fillStyle = css(m.kind === 'write' ? '--el-color-primary' : '--uncertain')
    c.beginPath()
    if (m.kind === 'write') {
      c.moveTo(at - r, top)
      c.lineTo(at + r, top)
      c.lineTo(at, top + 1.7 * r)
    } else {
      c.moveTo(at, top)
      c.lineTo(at + r * 0.8, top + r)
      c.lineTo(at, top + 2 * r)
      c.lineTo(at - r * 0.8, top + r)
    }
    c.fill()
  }
  for (const [name, at] of [['A', props.a], ['B', props.b]] as const) {
    if (at === undefined || at < props.from || at > props.to) continue
    c.strokeStyle = css('--el-text-color-primary')
    c.lineWidth = devicePixelRatio
    c.setLineDash(name === 'A' ? [] : [6 * devicePixelRatio, 4 * devicePixelRatio])
    c.beginPath()
    c.moveTo(x(at), top)
    c.lineTo(x(at), top + height)
    c.stroke()
    c.setLineDash([])
    c.fillStyle = css('--el-text-color-primary')
    c.font = `600 ${12 * devicePixelRatio}px sans-serif`
    c.textAlign = 'left'
    c.fillText(name, x(at) + 3 * devicePixelRatio, top + height - 5 * devicePixelRatio)
  }
  c.restore()
}

/** Says between what the scales are, for who does not see them. */
function say(chart: uPlot) {
  box.value!.dataset.scales = lines.value.map(({ curve }) => `${curve.tag} ${shown(chart.scales[scaleOf(curve)]?.min)} ${shown(chart.scales[scaleOf(curve)]?.max)}`).join('; ')
}

/** The axes that have room: that of the point that is looked at, or those of up to three units. */
function axes(): uPlot.Axis[] {
  const text = css('--el-text-color-secondary')
  const grid = { stroke: css('--el-border-color-lighter') || '#ddd', width: 1 }
  const font = '12px sans-serif'
  const list: uPlot.Axis[] = [{ scale: 'x', stroke: text, grid, ticks: grid, font, show: !props.small, values: (_, at) => at.map((v) => moment(v * 1000, props.to - props.from).replace(/\.\d+$/, '')), space: 90 }]
  const seen: string[] = []
  for (const { curve, i } of lines.value) {
    const scale = scaleOf(curve)
    if (seen.includes(scale) || seen.length >= (props.shared ? 3 : 1)) continue
    if (!props.shared && props.active && curve.tag !== props.active && lines.value.some((l) => l.curve.tag === props.active)) continue
    const first = seen.length === 0
    seen.push(scale)
    list.push({
      scale,
      side: seen.length % 2 === 1 ? 3 : 1,
      stroke: props.shared ? text : strokeOf(i, dark.value).colour,
      grid: first ? grid : { show: false },
      ticks: grid,
      font,
      size: 58,
      show: !props.small,
      label: props.shared || !curve.unit ? curve.unit || undefined : curve.unit,
      labelSize: 18,
      labelFont: '12px sans-serif',
      values: (_, at) => at.map((v) => shown(v)),
    })
  }
  return list
}

function data(): uPlot.AlignedData {
  const xs = [props.from / 1000, props.to / 1000]
  return [xs, ...lines.value.map(() => [null, null])] as uPlot.AlignedData
}

function ranges(): Record<string, [number, number]> {
  const by = new Map<string, Curve[]>()
  for (const { curve } of lines.value) by.set(scaleOf(curve), [...(by.get(scaleOf(curve)) ?? []), curve])
  return Object.fromEntries([...by].map(([scale, curves]) => [scale, rangeOf(curves)]))
}

function height() {
  return Math.max(60, box.value!.clientHeight)
}

function build() {
  u?.destroy()
  u = undefined
  hatch = null
  if (!box.value || box.value.clientWidth < 40) return
  const limits = ranges()
  const scales: uPlot.Scales = { x: { time: true, auto: false, range: () => [props.from / 1000, props.to / 1000] } }
  for (const [scale, range] of Object.entries(limits)) scales[scale] = { auto: false, range: () => range }
  u = new uPlot(
    {
      width: box.value.clientWidth,
      height: height(),
      padding: props.small ? [4, 2, 4, 2] : [10, 14, 0, lines.value.length === 0 ? 58 : 0],
      legend: { show: false },
      cursor: { show: !props.small, drag: { x: false, y: false, setScale: false }, points: { show: false }, y: false },
      scales,
      axes: axes(),
      series: [{}, ...lines.value.map(({ curve, i }) => ({ scale: scaleOf(curve), stroke: strokeOf(i, dark.value).colour, dash: strokeOf(i, dark.value).dash, width: curve.tag === props.active ? 2.4 : 1.6, paths: path(curve) }))],
      hooks: {
        draw: [furnish, say],
        setCursor: [(chart) => emit('hover', chart.cursor.left !== undefined && chart.cursor.left !== null && chart.cursor.left >= 0 ? chart.posToVal(chart.cursor.left, 'x') * 1000 : undefined)],
        setSize: [measure],
        ready: [measure, listen],
      },
    },
    data(),
    box.value,
  )
}

function measure(chart: uPlot) {
  inner.value = { left: chart.bbox.left / devicePixelRatio, width: chart.bbox.width / devicePixelRatio }
}

/** The window is moved by dragging, and made longer and shorter by the wheel and by two fingers. */
function listen(chart: uPlot) {
  if (props.small) return
  const over = chart.over
  const fingers = new Map<number, number>()
  let began: { x: number; from: number; to: number; moved: boolean; apart: number; middle: number } | undefined
  const time = (x: number) => props.from + ((props.to - props.from) * x) / over.clientWidth
  const place = (e: PointerEvent | WheelEvent) => e.clientX - over.getBoundingClientRect().left
  over.style.touchAction = 'pan-y'
  over.addEventListener(
    'wheel',
    (e) => {
      e.preventDefault()
      const at = time(place(e))
      const factor = Math.exp(Math.max(-1, Math.min(1, e.deltaY / 300)))
      emit('window', at - (at - props.from) * factor, at + (props.to - at) * factor)
    },
    { passive: false },
  )
  const begin = () => {
    const xs = [...fingers.values()]
    began = { x: xs[0] ?? 0, from: props.from, to: props.to, moved: began?.moved ?? false, apart: xs.length > 1 ? Math.abs(xs[0]! - xs[1]!) : 0, middle: xs.length > 1 ? time((xs[0]! + xs[1]!) / 2) : 0 }
  }
  over.addEventListener('pointerdown', (e) => {
    if (e.button !== 0) return
    over.setPointerCapture(e.pointerId)
    fingers.set(e.pointerId, place(e))
    if (fingers.size === 1) began = undefined
    begin()
  })
  over.addEventListener('pointermove', (e) => {
    if (!began || !fingers.has(e.pointerId)) return
    fingers.set(e.pointerId, place(e))
    const xs = [...fingers.values()]
    const span = began.to - began.from
    if (xs.length > 1 && began.apart > 10) {
      const factor = began.apart / Math.max(20, Math.abs(xs[0]! - xs[1]!))
      began.moved = true
      emit('window', began.middle - (began.middle - began.from) * factor, began.middle + (began.to - began.middle) * factor)
      return
    }
    const by = xs[0]! - began.x
    if (!began.moved && Math.abs(by) < 4) return
    began.moved = true
    const shift = (-by / over.clientWidth) * span
    emit('window', began.from + shift, began.to + shift)
  })
  const end = (e: PointerEvent) => {
    if (!fingers.delete(e.pointerId) || !began) return
    if (fingers.size > 0) return begin()
    if (!began.moved && e.type === 'pointerup') emit('cursor', time(place(e)), e.shiftKey)
    began = undefined
  }
  over.addEventListener('pointerup', end)
  over.addEventListener('pointercancel', end)
}

/** What the chart is made of; when it changes, it is made anew, and otherwise only drawn again. */
const make = computed(() => JSON.stringify([lines.value.map(({ curve, i }) => [curve.tag, curve.unit, i]), props.shared, props.active, props.small, dark.value]))
watch(make, () => void nextTick(build))
watch(
  () => [props.plot, props.from, props.to, props.marks, props.a, props.b],
  () => {
    if (!u) return build()
    const limits = ranges()
    lines.value.forEach(({ curve }, index) => {
      u!.series[index + 1]!.paths = path(curve)
      const scale = u!.scales[scaleOf(curve)]
      if (scale) scale.range = () => limits[scaleOf(curve)]!
    })
    const chart = u
    chart.batch(() => {
      chart.setData(data(), true)
      for (const [scale, [min, max]] of Object.entries(limits)) chart.setScale(scale, { min, max })
    })
  },
)
onMounted(() => {
  observer = new ResizeObserver(() => {
    if (!box.value) return
    if (u) u.setSize({ width: box.value.clientWidth, height: height() })
    else build()
  })
  observer.observe(box.value!)
  build()
})
onBeforeUnmount(() => {
  observer?.disconnect()
  u?.destroy()
})

interface Band {
  left: number
  width: number
  text: string
  state: number | null
  bad: boolean
}
const percent = (at: number) => (100 * (at - props.from)) / (props.to - props.from)
/** The states of a curve, one after the other. */
function bands(curve: Curve): Band[] {
  const names = curve.states as string[] | Record<string, string>
  const list: Band[] = []
  stretches(curve, (from, to, value, bad) => {
    if (value === null && !bad) return
    const [left, right] = [Math.max(0, percent(from)), Math.min(100, percent(to))]
    if (right <= left) return
    const before = list.at(-1)
    if (before && before.state === value && before.bad === bad && Math.abs(before.left + before.width - left) < 0.01) {
      before.width = right - before.left
      return
    }
    const name = value === null ? t('trends.bad') : ((Array.isArray(names) ? names[value] : names[String(value)]) ?? String(value))
    list.push({ left, width: right - left, text: name, state: value, bad })
  })
  return list
}
/** How much of the colour of its curve a state has: the more, the higher its number. */
const depth = (state: number | null) => (state === null ? 0 : Math.min(0.9, 0.18 + 0.34 * Math.min(2, Math.abs(state))))

/** The chart as a picture. */
function picture(): HTMLCanvasElement | undefined {
  return u?.ctx.canvas
}
defineExpose({ picture, strips: () => lanes.value.map(({ curve, i }) => ({ tag: curve.tag, colour: strokeOf(i, dark.value).colour, bands: bands(curve).map((b) => ({ ...b, depth: depth(b.state) })) })), inside: () => inner.value })
</script>

<template>
  <div class="trend" :class="{ small }">
    <div v-show="lines.length > 0 || lanes.length === 0" ref="box" class="chart" role="img" :aria-label="plot.series.map((c) => c.tag).join(', ')" data-test="chart" />
    <div v-for="{ curve, i } in lanes" :key="curve.tag" class="lane" :class="{ active: curve.tag === active }" :data-lane="curve.tag">
      <span v-if="!small" class="name" :title="curve.tag">{{ curve.tag }}</span>
      <div class="bands" :style="{ marginLeft: small ? '2px' : `${inner.left}px`, width: small ? 'calc(100% - 4px)' : `${inner.width}px` }">
        <span
          v-for="(s, n) in bands(curve)"
          :key="n"
          class="band"
          :class="{ bad: s.bad }"
          :style="{ left: `${s.left}%`, width: `${s.width}%`, '--band': strokeOf(i, dark).colour, '--depth': `${Math.round(100 * depth(s.state))}%` }"
          :title="s.text"
          >{{ s.width > 4 ? s.text : '' }}</span
        >
      </div>
    </div>
  </div>
</template>

<style scoped>
.trend {
  display: flex;
  flex-direction: column;
  min-height: 0;
  height: 100%;
}
.chart {
  flex: 1;
  min-height: 60px;
  overflow: hidden;
  cursor: crosshair;
}
.small .chart {
  cursor: default;
}
.lane {
  position: relative;
  flex: none;
  padding-top: 14px;
}
.small .lane {
  padding-top: 0;
}
.lane .name {
  position: absolute;
  top: 0;
  left: 8px;
  font-size: 11px;
  color: var(--el-text-color-secondary);
}
.lane.active .name {
  font-weight: 600;
  color: var(--el-text-color-primary);
}
.bands {
  position: relative;
  height: 20px;
  background: var(--el-fill-color-light);
  overflow: hidden;
}
.band {
  position: absolute;
  top: 0;
  bottom: 0;
  overflow: hidden;
  white-space: nowrap;
  font-size: 11px;
  line-height: 20px;
  text-align: center;
  color: var(--el-text-color-primary);
  background: color-mix(in srgb, var(--band) var(--depth), var(--el-bg-color));
  border-left: 1px solid var(--el-bg-color);
  box-sizing: border-box;
}
.band.bad {
  background: repeating-linear-gradient(45deg, transparent 0 4px, var(--bad) 4px 5px);
}
</style>
