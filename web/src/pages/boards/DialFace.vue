<script setup lang="ts">
import { computed } from 'vue'

import type { Point } from '../../api/client'
import { shown } from '../trends/scale'
import { rangeOf } from './display'

// A number on a scale, round or straight, with the limits of its point as marks: one bar for low and high, two for far too low and far too high.
const props = defineProps<{ point?: Point; value?: number; text: string; bad: boolean; straight?: boolean }>()

const ends = computed(() => rangeOf(props.point, props.value))
const share = (v: number) => Math.max(0, Math.min(1, (v - ends.value[0]) / (ends.value[1] - ends.value[0])))
const limits = computed(() =>
  (['low_low', 'low', 'high', 'high_high'] as const)
    .map((name) => ({ name, at: props.point?.limits?.[name] }))
    .filter((l): l is { name: 'low_low' | 'low' | 'high' | 'high_high'; at: number } => l.at !== undefined && l.at !== null)
    .map((l) => ({ ...l, share: share(l.at), double: l.name === 'low_low' || l.name === 'high_high' })),
)
const beyond = computed(() => props.value !== undefined && (props.value < ends.value[0] || props.value > ends.value[1]))

// The round one goes over 240 degrees.
const radius = 42
const angle = (s: number) => ((-210 + 240 * s) * Math.PI) / 180
const at = (s: number, r: number) => `${(50 + r * Math.cos(angle(s))).toFixed(2)},${(50 + r * Math.sin(angle(s))).toFixed(2)}`
const arc = (from: number, to: number) => `M${at(from, radius)} A${radius} ${radius} 0 ${240 * (to - from) > 180 ? 1 : 0} 1 ${at(to, radius)}`
const now = computed(() => (props.value === undefined ? 0 : share(props.value)))
</script>

<template>
  <div v-if="straight" class="straight" :class="{ bad }">
    <span class="number value">{{ text }}</span>
    <div class="track">
      <div v-if="value !== undefined" class="fill" :style="{ width: `${100 * now}%` }" />
      <i v-for="l in limits" :key="l.name" class="limit" :class="{ double: l.double }" :style="{ left: `${100 * l.share}%` }" :title="`${l.name}: ${l.at}`" />
    </div>
    <div class="ends number"><span>{{ shown(ends[0]) }}</span><span v-if="beyond">{{ '▸' }}</span><span>{{ shown(ends[1]) }}</span></div>
  </div>
  <svg v-else class="round" :class="{ bad }" viewBox="0 0 100 84" role="img" :aria-label="text">
    <path :d="arc(0, 1)" class="rail" />
    <path v-if="value !== undefined && now > 0.004" :d="arc(0, now)" class="arc" />
    <template v-for="l in limits" :key="l.name">
      <path :d="`M${at(l.share, radius - 7)} L${at(l.share, radius + 6)}`" class="mark"><title>{{ l.name }}: {{ l.at }}</title></path>
      <path v-if="l.double" :d="`M${at(l.share + 0.014, radius - 7)} L${at(l.share + 0.014, radius + 6)}`" class="mark" />
    </template>
    <text x="50" y="53" class="value" :font-size="text.length > 9 ? 11 : text.length > 6 ? 14 : 18">{{ text }}</text>
    <text x="50" y="66" class="unit">{{ point?.unit }}</text>
    <text x="13" y="82" class="end">{{ shown(ends[0], 4) }}</text>
    <text x="87" y="82" class="end">{{ shown(ends[1], 4) }}{{ beyond ? ' !' : '' }}</text>
  </svg>
</template>

<style scoped>
.round {
  width: 100%;
  height: 100%;
  min-height: 0;
}
.rail,
.arc {
  fill: none;
  stroke-width: 8;
  stroke: var(--el-fill-color-light);
}
.arc {
  stroke: var(--el-color-primary);
}
.bad .arc {
  stroke: var(--idle);
  stroke-dasharray: 2 2;
}
.mark {
  stroke: var(--uncertain);
  stroke-width: 1.6;
}
text {
  text-anchor: middle;
  fill: var(--el-text-color-primary);
}
.value {
  font-weight: 600;
}
.bad .value {
  fill: var(--el-text-color-secondary);
  color: var(--el-text-color-secondary);
}
.unit,
.end {
  font-size: 7.5px;
  fill: var(--el-text-color-secondary);
}
.straight {
  display: flex;
  flex-direction: column;
  justify-content: center;
  height: 100%;
  gap: 3px;
}
.straight .value {
  font-size: 18px;
}
.track {
  position: relative;
  height: 12px;
  background: var(--el-fill-color-light);
  border-radius: 3px;
}
.fill {
  height: 100%;
  background: var(--el-color-primary);
  border-radius: 3px;
}
.bad .fill {
  background: repeating-linear-gradient(90deg, var(--idle) 0 3px, transparent 3px 6px);
}
.limit {
  position: absolute;
  top: -3px;
  bottom: -3px;
  border-left: 2px solid var(--uncertain);
}
.limit.double {
  border-left: 5px double var(--uncertain);
}
.ends {
  display: flex;
  justify-content: space-between;
  font-size: 11px;
  color: var(--el-text-color-secondary);
}
</style>
