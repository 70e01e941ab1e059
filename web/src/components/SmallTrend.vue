<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { usePlot } from '../composables/usePlot'
import { useLook } from '../composables/useLook'
import { shown, strokeOf } from '../pages/trends/scale'
import { moment } from '../time'
import TrendChart from './TrendChart.vue'

// How a point went lately, in a small place. Of one that is not recorded it says so.
const props = withDefaults(defineProps<{ tags: string[]; seconds?: number; height?: number; link?: boolean }>(), { seconds: 600, height: 70, link: true })
const { t } = useI18n()

const { dark } = useLook()
const box = ref<HTMLElement>()
const pixels = ref(240)
let observer: ResizeObserver | undefined
onMounted(() => {
  observer = new ResizeObserver(() => (pixels.value = Math.max(60, box.value?.clientWidth ?? 240)))
  observer.observe(box.value!)
})
onBeforeUnmount(() => observer?.disconnect())

const { plot: asked } = usePlot(computed(() => ({ tags: props.tags, last: props.seconds * 1000 })), pixels)
/** The curves in the order of the tags. */
const plot = computed(() => asked.value && { ...asked.value, series: props.tags.map((tag) => asked.value!.series.find((c) => c.tag === tag)).filter((c) => c !== undefined) })
const some = computed(() => plot.value?.series.some((c) => c.count > 0 || c.live))
/** Since when the points that are not recorded are kept. */
const kept = computed(() => plot.value?.series.find((c) => c.since)?.since)
const ends = computed(() => {
  const c = plot.value?.series[0]
  if (!c || c.states || plot.value!.series.length > 1) return undefined
  const least = Math.min(...c.least.filter((v): v is number => v !== null))
  const most = Math.max(...c.most.filter((v): v is number => v !== null))
  return Number.isFinite(least) ? { least: shown(least), most: shown(most) } : undefined
})
</script>

<template>
  <div ref="box" class="small-trend" data-test="small-trend">
    <template v-if="plot && some">
      <div :style="{ height: `${height}px` }"><TrendChart :plot="plot" :from="Date.parse(plot.from)" :to="Date.parse(plot.to)" small shared /></div>
      <div v-if="tags.length > 1" class="names">
        <span v-for="(c, i) in plot.series" :key="c.tag" :title="c.tag"><svg width="18" height="6" aria-hidden="true"><line x1="0" y1="3" x2="18" y2="3" :stroke="strokeOf(i, dark).colour" stroke-width="3" :stroke-dasharray="strokeOf(i, dark).dash.join(' ')" /></svg> {{ c.tag }}<template v-if="c.unit"> ({{ c.unit }})</template></span>
      </div>
      <div class="quiet under">
        <span v-if="kept" data-test="kept" :title="t('trends.kept-means')">{{ t('trends.kept-since', { time: moment(Date.parse(kept), 3600_000) }) }}</span>
        <span v-else>{{ t('trends.last-minutes', { n: Math.round(seconds / 60) }) }}</span>
        <span v-if="ends" class="number">{{ ends.least }} … {{ ends.most }}</span>
        <router-link v-if="link" :to="{ path: '/trends', query: { tags: tags.join(','), last: String(Math.max(300, seconds)) } }">{{ t('pages.trends') }}</router-link>
      </div>
    </template>
    <span v-else-if="plot" class="quiet under">{{ t('trends.not-recorded') }} <router-link v-if="link" :to="{ path: '/trends', query: { tags: tags.join(',') } }">{{ t('pages.trends') }}</router-link></span>
  </div>
</template>

<style scoped>
.small-trend {
  min-width: 0;
}
.under {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  font-size: 12px;
}
.under .number {
  white-space: nowrap;
}
.names {
  display: flex;
  flex-wrap: wrap;
  gap: 0 12px;
  font-size: 11px;
  max-height: 30px;
  overflow: hidden;
}
.names span {
  white-space: nowrap;
}
.under a {
  color: inherit;
}
</style>
