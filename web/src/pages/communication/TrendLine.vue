<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Windows } from '../../api/client'

const { t } = useI18n()

// The last minute in twelve steps: answers as bars, what failed on top of them.
const props = defineProps<{ trend: Windows['trend'] }>()
const most = computed(() => Math.max(1, ...props.trend.map((s) => s.answers + s.failed)))
const bars = computed(() =>
  props.trend.map((s, i) => {
    const good = (20 * Math.max(0, s.answers)) / most.value
    const bad = (20 * s.failed) / most.value
    return { x: i * 9, good, bad }
  }),
)
</script>

<template>
  <svg viewBox="0 0 108 22" width="108" height="22" role="img" :aria-label="t('communication.answers-and-failures-of-the-last')">
    <g v-for="b in bars" :key="b.x">
      <rect :x="b.x" :y="21 - b.good" width="7" :height="b.good" fill="var(--good)" />
      <rect :x="b.x" :y="21 - b.good - b.bad" width="7" :height="b.bad" fill="none" stroke="var(--bad)" />
    </g>
    <path d="M0 21.5h108" stroke="var(--el-border-color)" />
  </svg>
</template>
