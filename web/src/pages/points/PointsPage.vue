<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { ElMessage, ElMessageBox } from 'element-plus'

import { api, message, type Point } from '../../api/client'
import EntityDrawer from '../../components/EntityDrawer.vue'
import TagTree from '../../components/TagTree.vue'
import { useQuery } from '../../composables/useQuery'
import { useSearchKey } from '../../composables/useSearchKey'
import { useSite } from '../../composables/useSite'
import ImportPoints from './ImportPoints.vue'
import PointForm from './PointForm.vue'
import PointSheet from './sheet/PointSheet.vue'

const { t, te } = useI18n()

const site = useSite()
void site.loadLinks()
void site.loadStations()

const search = useQuery('search')
const chosen = useQuery('point')
const adding = useQuery('new')
const importing = useQuery('import')
const tree = useQuery('tree')
const branch = useQuery('branch')
const searchBox = ref<{ focus: () => void }>()
useSearchKey(searchBox)

const sheet = ref<InstanceType<typeof PointSheet>>()
const tags = shallowRef<{ tag: string }[]>([])
const shown = ref(0)
const all = ref(0)
const finding = ref(false)

// The columns of the sheet, as this person chose them.
const every = ['tag', 'value', 'station', 'address', 'type', 'order', 'scaling', 'unit', 'decimals', 'writable', 'description', 'length', 'charset', 'range', 'states', 'invalid', 'invert', 'read_back', 'pulse', 'poll', 'poll_group', 'record', 'limits', 'control', 'select', 'pulse_off', 'pulse_count']
const usual = every.slice(0, 11)
function storedColumns(): string[] {
  try {
    const list = JSON.parse(localStorage.getItem('sheet-columns') ?? '') as string[]
    return every.filter((f) => f === 'tag' || list.includes(f))
  } catch {
    return usual
  }
}
const columns = ref(storedColumns())
watch(columns, (list) => localStorage.setItem('sheet-columns', JSON.stringify(list)))
const inOrder = computed(() => every.filter((f) => f === 'tag' || columns.value.includes(f)))
const name = (f: string) => (te(`columns.${f}`) ? t(`columns.${f}`) : f)

// The point whose form is open.
const one = ref<Point[]>([])
const looked = ref(false)
watch(
  chosen,
  async (tag) => {
    looked.value = false
    one.value = []
    if (!tag) return
    try {
      one.value = [await api.point(tag)]
    } catch {
      // the drawer says that it is not there
    }
    looked.value = true
  },
  { immediate: true },
)

/** Gives a branch another name, with all its points in one change: it moves where the name has other parts. */
async function renameBranch() {
  let to: string
  try {
    const asked = await ElMessageBox.prompt(t('tree.rename-what', { n: shown.value }), t('tree.rename'), { inputValue: branch.value, confirmButtonText: t('tree.rename'), cancelButtonText: t('common.leave-it') })
    to = asked.value.replace(/^\/+|\/+$/g, '')
  } catch {
    return
  }
  if (!to || to === branch.value) return
  try {
    const sum = await api.changePoints({ tags: [`${branch.value}/*`], rename: `${to}/*` })
    ElMessage.success(t('tree.renamed', { n: sum.changed }))
    branch.value = to
    await sheet.value?.load()
  } catch (error) {
    ElMessage.error(message(error))
  }
}

/** Fetches the points that are shown as a list; all of them by no names at all. */
function fetchList(form: 'csv' | 'xlsx') {
  const link = document.createElement('a')
  const within = tree.value && branch.value ? [`${branch.value}/*`] : []
  link.href = api.exportPoints(form, search.value ? (sheet.value?.shownTags() ?? []) : within)
  link.download = `points.${form}`
  link.click()
}

async function saved(close: () => void) {
  close()
  await sheet.value?.load()
}
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('points.points') }}</h1>
      <el-button :type="tree ? 'primary' : undefined" plain data-test="tree-toggle" @click="tree = tree ? '' : 'shown'">{{ t('tree.tree') }}</el-button>
      <el-input ref="searchBox" v-model="search" :placeholder="t('points.search-tag-address-station')" clearable style="flex: 10 1 140px; max-width: 260px" :aria-label="t('points.search')" data-test="search" />
      <span class="quiet number" data-test="count">{{ t('points.count', { n: shown, all }) }}</span>
      <el-button v-if="tree && branch" plain data-test="rename-branch" @click="renameBranch">{{ t('tree.rename') }}…</el-button>
      <router-link v-if="tree && branch" :to="{ path: '/live', query: { tree: 'shown', branch } }" data-test="watch-branch"><el-button plain>{{ t('tree.watch') }}</el-button></router-link>
      <span class="grow" />
      <el-button data-test="find" :type="finding ? 'primary' : undefined" plain @click="finding = !finding">{{ t('sheet.find-replace') }}</el-button>
      <el-popover trigger="click" :width="230" placement="bottom-end">
        <template #reference><el-button data-test="choose-columns">{{ t('sheet.columns') }}</el-button></template>
        <el-checkbox-group v-model="columns" class="choice">
          <el-checkbox v-for="f in every" :key="f" :value="f" :label="name(f)" :disabled="f === 'tag'" :data-column="f" />
        </el-checkbox-group>
      </el-popover>
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
    <EntityDrawer v-slot="{ entity, close }" kind="point" :all="one" :loaded="looked" :width="540">
      <PointForm :point="entity" @saved="saved(close)" />
    </EntityDrawer>
    <ImportPoints v-if="importing" @closed="importing = ''" @taken="sheet?.load()" />
    <div class="columns fill">
      <TagTree v-if="tree" v-model="branch" class="panel" :tags="tags" counted />
      <div class="panel fill">
        <PointSheet
          ref="sheet"
          :fields="every.filter((f) => f !== 'value')"
          :search="search"
          :branch="tree ? branch : ''"
          :finding="finding"
          :shown-columns="inOrder"
          @open="(tag) => (chosen = tag)"
          @counted="(n, of) => ([shown, all] = [n, of])"
          @tags="(list) => (tags = list)"
          @found="finding = false"
        />
      </div>
    </div>
  </div>
</template>

<style scoped>
.choice {
  display: grid;
  grid-template-columns: 1fr 1fr;
}
</style>
