<script setup lang="ts">
import { computed, h, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Reading } from '../../api/client'
import NoteMark from '../../components/NoteMark.vue'
import QualityMark from '../../components/QualityMark.vue'
import TagTree from '../../components/TagTree.vue'
import { useNow } from '../../composables/useEvery'
import { useLive } from '../../composables/useLive'
import { useQuery } from '../../composables/useQuery'
import { useSearchKey } from '../../composables/useSearchKey'
import { column, narrow } from '../../composables/useTable'
import { raw } from '../../format'
import { age } from '../../time'
import PointPanel from './PointPanel.vue'

const { t } = useI18n()

const search = useQuery('search')
const quality = useQuery('quality')
const chosen = useQuery('point')
const tree = useQuery('tree')
const branch = useQuery('branch')
const searchBox = ref<{ focus: () => void }>()
useSearchKey(searchBox)

const now = useNow()
const { readings, connected } = useLive(computed(() => ['*']))

const count = computed(() => {
  const sum = { good: 0, uncertain: 0, bad: 0 }
  for (const r of readings.value.values()) sum[r.quality]++
  return sum
})
const shown = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean)
  const list: Reading[] = []
  for (const r of readings.value.values()) {
    if (quality.value && r.quality !== quality.value) continue
    if (tree.value && branch.value && !r.tag.startsWith(`${branch.value}/`)) continue
    const tag = r.tag.toLowerCase()
    if (words.every((w) => tag.includes(w))) list.push(r)
  }
  return list.sort((a, b) => (a.tag < b.tag ? -1 : 1))
})

const columns = computed(() => [
  column<Reading>('tag', t('columns.tag'), 220, (r) => h('span', { class: 'tag' }, [h('b', { title: r.tag }, r.tag), h(NoteMark, { kind: 'point', name: r.tag })]), { flexGrow: 2 }),
  column<Reading>('value', t('columns.value'), 120, (r) => h('span', { class: ['number', r.quality === 'bad' ? 'quiet' : ''], title: r.quality === 'bad' ? t('live.last-good') : '' }, r.quality === 'bad' && r.text ? `(${r.text})` : r.text), { align: 'right' }),
  column<Reading>('unit', t('columns.unit'), 60, (r) => r.unit),
  column<Reading>('quality', t('columns.quality'), 180, (r) => h(QualityMark, { quality: r.quality, reason: r.reason, explanation: r.explanation })),
  column<Reading>('age', t('columns.age'), 75, (r) => h('span', { class: 'number' }, age(r.good_time, now.value)), { align: 'right' }),
  column<Reading>('raw', t('columns.raw'), 160, (r) => h('span', { class: 'mono quiet', title: raw(r) }, raw(r)), { flexGrow: 1 }),
])
const rowEvents = { onClick: ({ rowData }: { rowData: Reading }) => (chosen.value = rowData.tag) }
const filters = computed(() => [{ value: '' as const, label: t('live.all') }, ...(['good', 'uncertain', 'bad'] as const).map((value) => ({ value, label: t(`quality.${value}`) }))])
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('live.live') }}</h1>
      <el-button :type="tree ? 'primary' : undefined" plain data-test="tree-toggle" @click="tree = tree ? '' : 'shown'">{{ t('tree.tree') }}</el-button>
      <el-input ref="searchBox" v-model="search" :placeholder="t('live.search-tags')" clearable style="width: 260px" :aria-label="t('live.search')" data-test="search" />
      <el-radio-group v-model="quality" :aria-label="t('live.quality')">
        <el-radio-button v-for="f in filters" :key="f.value" :value="f.value">{{ f.value ? `${f.label} ${count[f.value]}` : f.label }}</el-radio-button>
      </el-radio-group>
      <span class="grow" />
      <span v-if="!connected" class="lost">{{ t('live.not-connected-to-the-service-trying') }}</span>
    </div>
    <div class="columns fill">
      <TagTree v-if="tree" v-model="branch" class="panel" :tags="[...readings.values()]" />
      <div class="panel fill">
        <el-auto-resizer>
          <template #default="{ height, width }">
            <el-table-v2 :columns="columns" :data="shown" :width="width" :height="height" :row-height="34" :header-height="38" row-key="tag" :fixed="narrow(columns, width)" :row-event-handlers="rowEvents" :row-class="({ rowData }: { rowData: Reading }) => (rowData.tag === chosen ? 'chosen' : '')">
              <template #empty><el-empty :description="t('live.no-reading-to-show')" /></template>
            </el-table-v2>
          </template>
        </el-auto-resizer>
      </div>
      <PointPanel v-if="chosen" :key="chosen" class="panel side" :tag="chosen" :reading="readings.get(chosen)" :now="now" @close="chosen = ''" />
    </div>
  </div>
</template>

<style scoped>
.lost {
  color: var(--bad);
  font-weight: 600;
}
:deep(.chosen) {
  background: var(--el-color-primary-light-9);
}
</style>
