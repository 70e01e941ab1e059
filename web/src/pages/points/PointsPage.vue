<script setup lang="ts">
import { computed, h, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, type Point } from '../../api/client'
import EntityDrawer from '../../components/EntityDrawer.vue'
import { useQuery } from '../../composables/useQuery'
import { useSearchKey } from '../../composables/useSearchKey'
import { useSite } from '../../composables/useSite'
import { column, narrow } from '../../composables/useTable'
import { scalingText } from '../../format'
import ImportPoints from './ImportPoints.vue'
import PointForm from './PointForm.vue'

const { t } = useI18n()

const site = useSite()
void site.loadLinks()
void site.loadStations()
void site.loadPoints()

const search = useQuery('search')
const chosen = useQuery('point')
const adding = useQuery('new')
const importing = useQuery('import')
const searchBox = ref<{ focus: () => void }>()
useSearchKey(searchBox)

const shown = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean)
  if (words.length === 0) return site.points
  return site.points.filter((p) => {
    const text = `${p.tag} ${p.station} ${p.address} ${p.canonical} ${p.type} ${p.unit ?? ''} ${p.description ?? ''}`.toLowerCase()
    return words.every((w) => text.includes(w))
  })
})

const mono = (text: string) => h('span', { class: 'mono', title: text }, text)
const columns = computed(() => [
  column<Point>('tag', t('columns.tag'), 210, (p) => h('b', { title: p.tag }, p.tag), { flexGrow: 2 }),
  column<Point>('station', t('columns.station'), 120, (p) => p.station),
  column<Point>('address', t('columns.address'), 95, (p) => mono(p.address)),
  column<Point>('canonical', t('columns.canonical'), 105, (p) => mono(p.canonical)),
  column<Point>('type', t('columns.type'), 80, (p) => p.type),
  column<Point>('order', t('columns.order'), 65, (p) => mono(p.order ?? '')),
  column<Point>('scaling', t('columns.scaling'), 110, (p) => scalingText(p.scaling)),
  column<Point>('unit', t('columns.unit'), 60, (p) => p.unit ?? ''),
  column<Point>('writable', '', 80, (p) => (p.writable ? t('points.writable') : '')),
  column<Point>('description', t('columns.description'), 90, (p) => p.description ?? '', { flexGrow: 1 }),
])

/** Fetches the points that are shown as a list; all of them by no names at all. */
function fetchList(form: 'csv' | 'xlsx') {
  const link = document.createElement('a')
  link.href = api.exportPoints(form, search.value ? shown.value.map((p) => p.tag) : [])
  link.download = `points.${form}`
  link.click()
}

async function saved(close: () => void) {
  close()
  await site.loadPoints()
}
const rowEvents = { onClick: ({ rowData }: { rowData: Point }) => (chosen.value = rowData.tag) }
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('points.points') }}</h1>
      <el-input ref="searchBox" v-model="search" :placeholder="t('points.search-tag-address-station')" clearable style="width: 300px" :aria-label="t('points.search')" data-test="search" />
      <span class="quiet number" data-test="count">{{ t('points.count', { n: shown.length, all: site.points.length }) }}</span>
      <span class="grow" />
      <el-dropdown trigger="click" @command="(form: 'csv' | 'xlsx') => fetchList(form)">
        <el-button data-test="export">{{ t('points.export') }}</el-button>
        <template #dropdown>
          <el-dropdown-menu>
            <el-dropdown-item command="xlsx" data-test="export-xlsx">{{ t('points.as-spreadsheet') }}</el-dropdown-item>
            <el-dropdown-item command="csv">{{ t('points.as-csv') }}</el-dropdown-item>
          </el-dropdown-menu>
        </template>
      </el-dropdown>
      <el-button data-test="import" :disabled="site.stations.length === 0" @click="importing = 'list'">{{ t('points.import') }}</el-button>
      <el-button type="primary" data-test="add" :disabled="site.stations.length === 0" @click="adding = 'point'">{{ t('points.add-a-point') }}</el-button>
    </div>
    <el-alert v-if="site.problem" :title="site.problem" type="error" :closable="false" show-icon />
    <EntityDrawer v-slot="{ entity, close }" kind="point" :all="site.points" :loaded="site.loaded.points" :width="540">
      <PointForm :point="entity" @saved="saved(close)" />
    </EntityDrawer>
    <ImportPoints v-if="importing" @closed="importing = ''" @taken="site.loadPoints()" />
    <div v-loading="site.loading" class="panel fill">
      <el-auto-resizer>
        <template #default="{ height, width }">
          <el-table-v2 :columns="columns" :data="shown" :width="width" :height="height" :row-height="34" :header-height="38" row-key="tag" :fixed="narrow(columns, width)" :row-event-handlers="rowEvents">
            <template #empty><el-empty :description="t('points.no-point-to-show')" /></template>
          </el-table-v2>
        </template>
      </el-auto-resizer>
    </div>
  </div>
</template>
