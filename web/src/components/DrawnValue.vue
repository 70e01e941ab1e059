<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Drawing } from '../api/client'

// How a value that is read wrongly went, beside how it would have gone: each on a scale of its own, on one time axis.
const props = defineProps<{ drawing: Drawing }>()
const { t } = useI18n()

const width = 240
const height = 44
const edge = 3

interface Line {
  name: string
  parts: string[]
  dots: { x: number; y: number }[]
  least: string
  most: string
}

/** The line of some values, in parts where there are none between. */
function line(name: string, values: (number | null)[]): Line {
  const times = props.drawing.times.map((time) => new Date(time).getTime())
  const first = times[0] ?? 0
  const span = Math.max(1, (times[times.length - 1] ?? 0) - first)
  const known = values.filter((v): v is number => v !== null)
  const least = Math.min(...known)
  const most = Math.max(...known)
  const place = (v: number, i: number) => ({
    x: edge + ((width - 2 * edge) * ((times[i] ?? first) - first)) / span,
    y: most === least ? height / 2 : height - edge - (height - 2 * edge) * share(v, least, most),
  })
  const parts: { x: number; y: number }[][] = [[]]
  values.forEach((v, i) => {
    if (v === null) parts.push([])
    else parts[parts.length - 1]!.push(place(v, i))
  })
  return {
    name,
    parts: parts.filter((p) => p.length > 1).map((p) => p.map((at) => `${at.x.toFixed(1)},${at.y.toFixed(1)}`).join(' ')),
    dots: parts.filter((p) => p.length === 1).map((p) => p[0]!),
    least: known.length > 0 ? text(least) : t('findings.no-value'),
    most: known.length > 0 ? text(most) : '',
  }
}

/** Where a value is between two others; their distance may be more than a number can be. */
function share(v: number, least: number, most: number): number {
  const scale = Math.max(Math.abs(least), Math.abs(most))
  return (v / scale - least / scale) / (most / scale - least / scale)
}

function text(v: number): string {
  const short = Math.abs(v) >= 1e7 || (v !== 0 && Math.abs(v) < 1e-4) ? v.toExponential(1) : String(Number(v.toPrecision(5)))
  return props.drawing.unit ? `${short} ${props.drawing.unit}` : short
}

const lines = computed(() => {
  const list = [line(t('findings.shows'), props.drawing.shows)]
  if (props.drawing.would && props.drawing.would.length > 0) list.push(line(t('findings.would-show'), props.drawing.would))
  return list
})
</script>

<template>
  <figure class="drawn" data-test="drawn">
    <figcaption>{{ drawing.tag }}</figcaption>
    <div v-for="(l, index) in lines" :key="l.name" class="line">
      <span class="quiet">{{ l.name }}</span>
      <svg :viewBox="`0 0 ${width} ${height}`" :width="width" :height="height" role="img" :aria-label="`${drawing.tag} ${l.name} ${l.least} – ${l.most}`">
        <rect x="0.5" y="0.5" :width="width - 1" :height="height - 1" rx="3" class="frame" />
        <polyline v-for="points in l.parts" :key="points" :points="points" :class="index === 0 ? 'shows' : 'would'" />
        <circle v-for="dot in l.dots" :key="dot.x" :cx="dot.x" :cy="dot.y" r="1.5" :class="index === 0 ? 'shows' : 'would'" />
      </svg>
      <span class="ends"><span>{{ l.most }}</span><span>{{ l.least }}</span></span>
    </div>
  </figure>
</template>

<style scoped>
.drawn {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 18px;
  margin: 6px 0 4px 22px;
}
figcaption {
  flex: 0 0 100%;
  font-size: 13px;
  font-weight: 600;
}
.line {
  display: flex;
  align-items: center;
  gap: 8px;
}
.line .quiet {
  min-width: 76px;
  text-align: right;
}
.frame {
  fill: none;
  stroke: var(--el-border-color-lighter);
}
polyline {
  fill: none;
  stroke-width: 1.6;
}
polyline.shows {
  stroke: var(--uncertain);
  stroke-dasharray: 4 2;
}
polyline.would {
  stroke: var(--good);
}
circle.shows {
  fill: var(--uncertain);
}
circle.would {
  fill: var(--good);
}
.ends {
  display: flex;
  flex-direction: column;
  justify-content: space-between;
  height: 44px;
  min-width: 92px;
  font-family: var(--mono);
  font-size: 12px;
  color: var(--el-text-color-secondary);
}
</style>
