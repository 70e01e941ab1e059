<script setup lang="ts">
import { ElMessage, ElMessageBox } from 'element-plus'
import { computed, onScopeDispose, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Template, type Tied } from '../../api/client'
import OwnList from '../../components/OwnList.vue'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import { useTogether } from '../../composables/useTogether'
import { scalingText } from '../../format'
import ImportStations from '../stations/ImportStations.vue'
import MakeTemplate from './MakeTemplate.vue'
import TemplateText from './TemplateText.vue'

const { t } = useI18n()
const site = useSite()
void site.loadLinks()
void site.loadStations()

// Kinds of devices: the templates at the left, the one that is chosen beside them: its points, its stations, its text.
const all = ref<Template[]>([])
const problem = ref('')
const loaded = ref(false)
const chosen = useQuery('template')
const part = useQuery('part')
const station = useQuery('station')
const making = useQuery('new')
const importing = ref(false)
const text = ref<{ file: string; name: string }>()

async function load() {
  try {
    all.value = await api.templates()
    loaded.value = true
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
void load()

const template = computed(() => all.value.find((e) => e.name === (chosen.value || all.value[0]?.name)))
const tied = ref<Tied[]>([])
async function loadTied() {
  try {
    tied.value = template.value ? await api.tied(template.value.name) : []
  } catch (error) {
    problem.value = message(error)
  }
}
watch(template, loadTied)
const counts = computed(() => {
  const n: Record<string, number> = {}
  for (const s of site.stations) if (s.template) n[s.template] = (n[s.template] ?? 0) + 1
  return n
})

onScopeDispose(
  useTogether().follow((news) => {
    if (news.touches('template') || news.touches('station') || news.touches('point')) void changed()
  }),
)
async function changed() {
  await Promise.all([load(), site.loadStations()])
  await loadTied()
}
async function made(name: string) {
  await changed()
  chosen.value = name
}
async function remove() {
  const name = template.value!.name
  try {
    await ElMessageBox.confirm(tied.value.length > 0 ? t('templates.stand-alone', { n: tied.value.length }, tied.value.length) : t('templates.nothing-made'), t('common.remove-really', { name }), { confirmButtonText: t('common.remove'), cancelButtonText: t('common.keep'), type: 'warning' })
  } catch {
    return
  }
  try {
    await api.remove('template', name, true)
    chosen.value = ''
    await changed()
  } catch (error) {
    problem.value = message(error)
  }
}
/** Takes a file of templates, to be looked at before it is taken over. */
const input = ref<HTMLInputElement>()
async function chose() {
  const file = input.value?.files?.[0]
  try {
    if (file) text.value = { file: new TextDecoder('utf-8', { fatal: true }).decode(await file.arrayBuffer()), name: file.name }
  } catch {
    problem.value = t('templates.not-utf8', { name: file!.name })
  }
  if (input.value) input.value.value = '' // so that the same file can be chosen again
}
async function edit() {
  try {
    text.value = { file: await api.templateFile(template.value!.name), name: template.value!.name }
  } catch (error) {
    problem.value = message(error)
  }
}
const show = (v: unknown) => (v === undefined || v === null ? '' : typeof v === 'object' ? JSON.stringify(v) : String(v))
type Fields = Record<string, unknown>
const first = ['tag', 'address', 'type', 'order', 'scaling', 'unit']
const more = (p: Fields) =>
  Object.entries(p)
    .filter(([name]) => !first.includes(name))
    .map(([name, v]) => (v === true ? name : `${name}: ${typeof v === 'object' && v !== null ? Object.values(v).join(', ') : show(v)}`))
    .join('; ')
const saved = () => {
  text.value = undefined
  ElMessage.success(t('templates.saved'))
  void changed()
}
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('pages.templates') }}</h1>
      <span class="quiet one">{{ t('templates.kinds-of-devices') }}</span>
      <span class="grow" />
      <el-button data-test="import" @click="input?.click()">{{ t('templates.import') }}</el-button>
      <input ref="input" type="file" accept=".yaml,.yml,.json" hidden data-test="template-file" @change="chose" />
      <a v-if="all.length > 0" :href="api.templateURL('*')" download="templates.yaml"><el-button>{{ t('points.export') }}</el-button></a>
      <el-button type="primary" data-test="make" :disabled="site.stations.length === 0" @click="making = 'template'">{{ t('templates.make') }}</el-button>
    </div>
    <el-alert v-if="problem" :title="problem" type="error" show-icon @close="problem = ''" />
    <MakeTemplate v-if="making" @closed="making = ''" @made="made" />
    <ImportStations v-if="importing" :template="template?.name" @closed="importing = false" @taken="changed" />
    <TemplateText v-if="text" :file="text.file" :name="text.name" @closed="text = undefined" @saved="saved" />
    <el-empty v-if="loaded && all.length === 0" class="panel" :description="t('templates.no-template-yet')" />
    <div v-else class="columns fill">
      <div class="panel list" data-test="templates">
        <button v-for="e in all" :key="e.name" type="button" :class="{ chosen: e.name === template?.name }" @click="chosen = e.name">
          <b>{{ e.name }}</b>
          <span class="quiet">{{ t('counts.points', e.points?.length ?? 0) }}, {{ t('counts.stations', counts[e.name] ?? 0) }}</span>
          <span v-if="e.description" class="quiet one">{{ e.description }}</span>
        </button>
      </div>
      <div v-if="template" class="panel fill detail">
        <div class="page-bar">
          <h2>{{ template.name }}</h2>
          <span class="quiet">{{ template.description }}</span>
          <span class="grow" />
          <el-button data-test="stations-list" :disabled="site.links.length === 0" @click="importing = true">{{ t('templates.import-stations') }}…</el-button>
          <el-button data-test="edit" @click="edit">{{ t('templates.edit') }}</el-button>
          <el-button type="danger" plain @click="remove">{{ t('stations.remove') }}</el-button>
        </div>
        <el-tabs :model-value="part || 'points'" @update:model-value="(v: string | number) => (part = v === 'points' ? '' : String(v))">
          <el-tab-pane name="points" :label="t('templates.what-it-has')">
            <dl>
              <template v-for="p in template.parameters ?? []" :key="p.name">
                <dt class="mono">{{ `{${p.name}\}` }}</dt>
                <dd>{{ p.description }} <span v-if="p.default" class="quiet">{{ t('templates.default', { value: p.default }) }}</span></dd>
              </template>
              <template v-if="template.identifies?.length"><dt>{{ t('templates.says') }}</dt><dd class="mono">{{ template.identifies.join('  ') }}</dd></template>
              <template v-if="template.station && Object.keys(template.station).length"><dt>{{ t('templates.settings') }}</dt><dd class="mono">{{ Object.entries(template.station).map(([k, v]) => `${k}: ${show(v)}`).join(', ') }}</dd></template>
            </dl>
            <el-table :data="template.points ?? []" size="small" max-height="calc(100vh - 330px)" data-test="template-points">
              <el-table-column :label="t('columns.tag')" min-width="150"><template #default="{ row }"><b>{{ row.tag }}</b></template></el-table-column>
              <el-table-column :label="t('columns.address')" min-width="105"><template #default="{ row }"><span class="mono">{{ row.address }}</span></template></el-table-column>
              <el-table-column :label="t('columns.type')" width="76"><template #default="{ row }">{{ row.type }}</template></el-table-column>
              <el-table-column v-if="template.points?.some((p) => p.order)" :label="t('columns.order')" width="70"><template #default="{ row }">{{ row.order }}</template></el-table-column>
              <el-table-column :label="t('columns.scaling')" min-width="80"><template #default="{ row }">{{ scalingText(row.scaling) || show(row.scaling) }}</template></el-table-column>
              <el-table-column :label="t('columns.unit')" width="60"><template #default="{ row }">{{ row.unit }}</template></el-table-column>
              <el-table-column :label="t('templates.more')" min-width="200"><template #default="{ row }"><span class="quiet">{{ more(row) }}</span></template></el-table-column>
            </el-table>
          </el-tab-pane>
          <el-tab-pane name="stations" :label="t('templates.its-stations', { n: tied.length })">
            <p v-if="tied.length === 0" class="quiet">{{ t('templates.nothing-made') }}</p>
            <el-table v-else :data="tied" size="small" data-test="tied" highlight-current-row @row-click="(row: Tied) => (station = row.station)">
              <el-table-column prop="station" :label="t('templates.station')" min-width="130"><template #default="{ row }"><b>{{ row.station }}</b></template></el-table-column>
              <el-table-column :label="t('templates.values')" min-width="200" class-name="mono"><template #default="{ row }">{{ Object.entries(row.values ?? {}).map(([k, v]) => `${k}=${v}`).join(' ') }}</template></el-table-column>
              <el-table-column prop="points" :label="t('pages.points')" width="90" align="right" />
              <el-table-column prop="own" :label="t('templates.own')" width="90" align="right" />
              <el-table-column prop="left_out" :label="t('templates.left-out-n')" width="105" align="right" />
              <el-table-column prop="added" :label="t('templates.added-n')" width="90" align="right" />
            </el-table>
            <OwnList v-if="station && tied.some((s) => s.station === station)" :station="station" :template="template.name" @changed="changed" />
          </el-tab-pane>
        </el-tabs>
      </div>
    </div>
  </div>
</template>

<style scoped>
.list {
  width: 240px;
  flex: none;
  overflow-y: auto;
}
.list button {
  display: flex;
  flex-direction: column;
  gap: 2px;
  width: 100%;
  padding: 9px 14px;
  border: 0;
  border-bottom: 1px solid var(--el-border-color-lighter);
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  cursor: pointer;
}
.list button.chosen {
  background: var(--el-color-primary-light-9);
  box-shadow: inset 3px 0 var(--el-color-primary);
}
.page-bar .one {
  flex: 0 1 auto;
  min-width: 0;
}
.one {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.detail {
  padding: 10px 16px;
  overflow: auto;
}
h2 {
  font-size: 16px;
  margin: 0;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 4px 16px;
  margin: 4px 0 12px;
}
dd {
  margin: 0;
}
</style>
