<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Point, Reading } from '../../api/client'
import SmallTrend from '../../components/SmallTrend.vue'
import { useAlarms } from '../../composables/useAlarms'
import { useMe } from '../../composables/useMe'
import { age } from '../../time'
import DialFace from './DialFace.vue'
import WriteFace from './WriteFace.vue'
import { rowHeight, writing, type Display } from './display'

// One thing on a board. Each shows its quality and its age by itself; a value that is not good now is never shown as if it were.
const props = defineProps<{ display: Display; points: Map<string, Point>; reading?: Reading; readings: Map<string, Reading>; now: number; locked: boolean }>()
const { t } = useI18n()
const me = useMe()
const alarms = useAlarms()

const point = computed(() => (props.display.tag ? props.points.get(props.display.tag) : undefined))
const bad = computed(() => !props.reading || props.reading.quality === 'bad')
const value = computed(() => (typeof props.reading?.value === 'number' ? props.reading.value : typeof props.reading?.value === 'boolean' ? Number(props.reading.value) : undefined))
/** The value in words; in brackets where it is only the last good one. */
const words = (r?: Reading) => (!r || !r.text ? '–' : r.quality === 'bad' ? `(${r.text})` : r.text)
const alarm = computed(() => alarms.items.find((a) => a.tag === props.display.tag && (a.state === 'active' || a.state === 'acknowledged')))
const title = computed(() => props.display.title || props.display.tag || '')
const lit = computed(() => !bad.value && Boolean(value.value))
const list = computed(() => props.display.tags ?? [])
const seconds = computed(() => {
  const m = /^(?:(\d+)d)?(?:(\d+)h)?(?:(\d+)m)?(?:(\d+)s)?$/.exec(props.display.last ?? '')
  const [d, h, min, s] = (m ?? []).slice(1).map((n) => Number(n ?? 0))
  return m && props.display.last ? d! * 86400 + h! * 3600 + min! * 60 + s! : 600
})
/** A figure or a bar with room below shows how it went, too. */
const below = computed(() => (props.display.show === 'figure' || props.display.show === 'bar') && props.display.h >= 6 && point.value !== undefined)
const image = computed(() => (props.display.image ? `data:${props.display.image.media};base64,${props.display.image.data}` : ''))
const quality = (r?: Reading) => r?.quality ?? 'bad'
const marks = { good: '●', uncertain: '◐', bad: '✕' }
</script>

<template>
  <div class="display" :class="[display.show, { bare: display.show === 'text' || display.show === 'picture', alarmed: alarm }]" :data-display="display.tag || display.show" :data-quality="display.tag ? quality(reading) : undefined">
    <template v-if="display.show === 'text'"><p class="words">{{ display.text }}</p></template>
    <img v-else-if="display.show === 'picture'" :src="image" :alt="display.title ?? ''" />
    <template v-else>
      <div v-if="title" class="title" :title="display.tag"><span v-if="alarm" class="alarm" :title="t(`alarms.limits.${alarm.limit}`)">{{ alarm.state === 'active' ? '▲' : '△' }} </span>{{ title }}</div>
      <div class="body">
        <SmallTrend v-if="display.show === 'trend'" :tags="list" :seconds="seconds" :height="display.h * (rowHeight + 8) - 8 - (title ? 66 : 40) - (list.length > 1 ? 32 : 0)" />
        <table v-else-if="display.show === 'table'">
          <tbody>
            <tr v-for="tag in list" :key="tag">
              <td class="tag" :title="tag">{{ tag }}</td>
              <td class="number right" :class="{ quiet: quality(readings.get(tag)) === 'bad' }">{{ points.has(tag) || readings.has(tag) ? `${words(readings.get(tag))} ${readings.get(tag)?.unit ?? ''}` : t('boards.gone') }}</td>
              <td :class="quality(readings.get(tag))" :title="readings.get(tag)?.reason">{{ marks[quality(readings.get(tag))] }} {{ age(readings.get(tag)?.good_time, now) }}</td>
            </tr>
          </tbody>
        </table>
        <span v-else-if="!point && !reading" class="gone">{{ t('boards.no-point', { tag: display.tag }) }}</span>
        <DialFace v-else-if="display.show === 'gauge' || display.show === 'bar'" :point="point" :value="value" :text="display.show === 'bar' ? `${words(reading)} ${point?.unit ?? ''}` : words(reading)" :bad="bad" :straight="display.show === 'bar'" />
        <div v-else-if="display.show === 'lamp'" class="lamp-face">
          <svg viewBox="0 0 24 24" width="24" height="24" aria-hidden="true">
            <path v-if="bad" d="M5 5l14 14M19 5L5 19" stroke="var(--bad)" stroke-width="2.5" />
            <circle v-else cx="12" cy="12" r="9" :fill="lit ? 'var(--el-color-primary)' : 'none'" stroke="currentColor" stroke-width="2" />
          </svg>
          <b :class="{ quiet: bad }">{{ words(reading) }}</b>
        </div>
        <WriteFace v-else-if="writing.includes(display.show) && point" :display="display" :point="point" :reading="reading" :disabled="locked || !me.may('operator')" />
        <span v-else class="figure-face number" :class="{ quiet: bad }">{{ words(reading) }} <small>{{ reading?.unit }}</small></span>
        <SmallTrend v-if="below" :tags="[display.tag!]" :seconds="seconds" :height="display.h * (rowHeight + 8) - 158" :link="false" />
      </div>
      <div v-if="display.tag && reading" class="foot" :class="reading.quality">{{ marks[reading.quality] }} <template v-if="reading.quality !== 'good'">{{ t(`quality.${reading.quality}`) }}<template v-if="reading.reason"> ({{ reading.reason }})</template>, </template>{{ age(reading.good_time, now) }}</div>
    </template>
  </div>
</template>

<style scoped>
.display {
  display: flex;
  flex-direction: column;
  height: 100%;
  box-sizing: border-box;
  padding: 6px 10px 4px;
  background: var(--el-bg-color);
  border: 1px solid var(--el-border-color-lighter);
  border-radius: 6px;
  overflow: hidden;
}
.bare {
  background: none;
  border-color: transparent;
}
.alarmed {
  border: 2px solid var(--bad);
}
.alarm {
  color: var(--bad);
}
.title {
  flex: none;
  font-size: 12px;
  color: var(--el-text-color-secondary);
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.body {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
  justify-content: center;
}
.body:has(table) {
  overflow: auto;
  justify-content: flex-start;
}
.foot {
  flex: none;
  font-size: 11px;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.good {
  color: var(--good);
}
.uncertain {
  color: var(--uncertain);
}
.bad {
  color: var(--bad);
}
.figure-face {
  font-size: 24px;
  font-weight: 600;
  white-space: nowrap;
}
.figure-face small {
  font-size: 14px;
  font-weight: 400;
}
.quiet {
  color: var(--el-text-color-secondary);
}
.lamp-face {
  display: flex;
  align-items: center;
  gap: 10px;
  font-size: 16px;
}
.gone {
  font-size: 13px;
  color: var(--bad);
}
table {
  border-collapse: collapse;
  font-size: 13px;
}
td {
  padding: 2px 6px 2px 0;
  white-space: nowrap;
}
.tag {
  overflow: hidden;
  text-overflow: ellipsis;
  max-width: 180px;
}
.right {
  text-align: right;
}
.words {
  margin: 0;
  white-space: pre-wrap;
  font-weight: 600;
}
img {
  width: 100%;
  height: 100%;
  object-fit: contain;
}
</style>
