<script setup lang="ts">
import { computed, h, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { ElMessage, ElMessageBox } from 'element-plus'

import { api, message, type Point } from '../../api/client'
import EntityDrawer from '../../components/EntityDrawer.vue'
import { useQuery } from '../../composables/useQuery'
import { useSearchKey } from '../../composables/useSearchKey'
import { useSite } from '../../composables/useSite'
import { column, narrow } from '../../composables/useTable'
import { scalingText } from '../../format'
import TagTree from '../../components/TagTree.vue'
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
const tree = useQuery('tree')
const branch = useQuery('branch')
const searchBox = ref<{ focus: () => void }>()
useSearchKey(searchBox)

const shown = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean)
  if (words.length === 0 && !(tree.value && branch.value)) return site.points
  return site.points.filter((p) => {
    if (tree.value && branch.value && !p.tag.startsWith(`${branch.value}/`)) return false
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

/** Gives a branch another name, with all its points in one change: it moves where the name has other parts. */
async function renameBranch() {
  let name: string
  try {
    const asked = await ElMessageBox.prompt(t('tree.rename-what', { n: shown.value.length }), t('tree.rename'), { inputValue: branch.value, confirmButtonText: t('tree.rename'), cancelButtonText: t('common.leave-it') })
    name = asked.value.replace(/^\/+|\/+$/g, '')
  } catch {
    return
  }
  if (!name || name === branch.value) return
  try {
    const sum = await api.changePoints({ tags: [`${branch.value}/*`], rename: `${name}/*` })
    ElMessage.success(t('tree.renamed', { n: sum.changed }))
    branch.value = name
    await site.loadPoints()
  } catch (error) {
    ElMessage.error(message(error))
  }
}

/** Fetches the points that are shown as a list; all of them by no names at all. */
function fetchList(form: 'csv' | 'xlsx') {
  const link = document.createElement('a')
  link.href = api.exportPoints(form, search.value ? shown.value.map((p) => p.tag) : tree.value && branch.value ? [`${branch.value}/*`] : [])
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
      <el-button :type="tree ? 'primary' : undefined" plain data-test="tree-toggle" @click="tree = tree ? '' : 'shown'">{{ t('tree.tree') }}</el-button>
      <el-input ref="searchBox" v-model="search" :placeholder="t('points.search-tag-address-station')" clearable style="flex: 10 1 160px; max-width: 300px" :aria-label="t('points.search')" data-test="search" />
      <span class="quiet number" data-test="count">{{ t('points.count', { n: shown.length, all: site.points.length }) }}</span>
      <el-button v-if="tree && branch" plain data-test="rename-branch" @click="renameBranch">{{ t('tree.rename') }}…</el-button>
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
    <div class="columns fill">
    <TagTree v-if="tree" v-model="branch" class="panel" :tags="site.points" />
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
  </div>
</template>
