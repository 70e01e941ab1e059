<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Import, type Template } from '../../api/client'
import { useSite } from '../../composables/useSite'

// A list of stations, a row each, from a file or pasted: what was understood, and every fault, before anything is taken over.
const props = defineProps<{ template?: string }>()
const emit = defineEmits<{ closed: []; taken: [] }>()
const { t } = useI18n()
const site = useSite()

const list = ref<string | Blob>('')
const name = ref('')
const pasted = ref('')
const link = ref('')
const template = ref(props.template ?? '')
const templates = ref<Template[]>([])
void api.templates().then((all) => (templates.value = all))
const read = ref<Import>()
const problem = ref('')
const busy = ref(false)
const query = computed(() => ({ link: link.value, template: template.value }))

async function ask(dry: boolean) {
  problem.value = ''
  if (!list.value) {
    read.value = undefined
    return
  }
  busy.value = true
  try {
    read.value = await api.importStations(list.value, { ...query.value, dry_run: dry })
    if (read.value.applied) {
      ElMessage.success(t('points.import-taken', { added: read.value.added, changed: read.value.changed }))
      emit('taken')
      emit('closed')
    }
  } catch (error) {
    read.value = undefined
    problem.value = message(error)
  } finally {
    busy.value = false
  }
}
let later = 0
watch([list, query], () => {
  window.clearTimeout(later)
  later = window.setTimeout(() => void ask(true), 300)
})
watch(pasted, (text) => {
  list.value = text
  name.value = ''
})
function chose(file: { raw?: File; name: string }) {
  if (!file.raw) return
  list.value = file.raw
  name.value = file.name
}
type Row = Import['items'][number]
const wrong = (row: Row, column?: string) => (read.value?.faults ?? []).filter((f) => f.row === row.row && (f.sheet ?? '') === (row.sheet ?? '') && (column === undefined || f.column === column))
const ready = computed(() => read.value !== undefined && read.value.faults_all === 0 && read.value.added + read.value.changed > 0)
</script>

<template>
  <el-dialog :model-value="true" width="min(1080px, 96vw)" :title="t('templates.import-stations')" data-test="import-stations" @close="emit('closed')">
    <div class="given">
      <el-upload drag :auto-upload="false" :show-file-list="false" accept=".csv,.tsv,.txt,.xlsx" :on-change="chose">
        <div>{{ name || t('points.import-drop') }}</div>
      </el-upload>
      <el-input v-model="pasted" type="textarea" :rows="5" :placeholder="t('templates.paste-stations')" data-test="stations-paste" />
      <div class="settings">
        <el-select v-model="link" clearable filterable :placeholder="t('templates.link-of-rows')" :aria-label="t('templates.link-of-rows')" data-test="stations-link">
          <el-option v-for="l in site.links" :key="l.name" :value="l.name" :label="l.name" />
        </el-select>
        <el-select v-model="template" clearable filterable :placeholder="t('templates.template-of-rows')" :aria-label="t('templates.template-of-rows')" data-test="stations-template">
          <el-option v-for="e in templates" :key="e.name" :value="e.name" :label="e.name" />
        </el-select>
      </div>
    </div>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <template v-if="read">
      <div class="quiet">{{ read.notes.join(' · ') }}</div>
      <el-alert v-if="read.faults_all > 0" :title="t('points.import-faults', { n: read.faults_all }, read.faults_all)" type="warning" :closable="false" show-icon data-test="stations-faults">
        <ul>
          <li v-for="f in read.faults.slice(0, 8)" :key="`${f.row} ${f.column} ${f.message}`"><template v-if="f.row">{{ t('points.import-row') }} {{ f.row }}<template v-if="f.column">, {{ f.column }}</template>: </template>{{ f.message }}</li>
        </ul>
      </el-alert>
      <el-table v-loading="busy" :data="read.items" max-height="340" size="small" border>
        <el-table-column prop="row" :label="t('points.import-row')" width="60" />
        <el-table-column width="84"><template #default="{ row }"><b :class="`is-${row.action}`">{{ t(`points.import-action.${row.action}`) }}</b></template></el-table-column>
        <el-table-column prop="tag" :label="t('stations.name')" min-width="120" />
        <el-table-column v-for="h in read.headings" :key="h" min-width="110">
          <template #header><span :title="h">“{{ h }}”</span> <span class="quiet">{{ read.columns[h] || t('points.import-nothing') }}</span></template>
          <template #default="{ row }"><span :class="{ wrong: wrong(row, h).length > 0 }" :title="wrong(row, h).map((f) => f.message).join('\n')">{{ row.cells[h] }}</span></template>
        </el-table-column>
      </el-table>
    </template>
    <template #footer>
      <span v-if="read && read.faults_all === 0" class="quiet sum" data-test="stations-sum">{{ t('points.import-sum', { rows: read.rows, added: read.added, changed: read.changed, unchanged: read.unchanged }) }}</span>
      <el-button @click="emit('closed')">{{ t('points.import-close') }}</el-button>
      <el-button type="primary" :disabled="!ready || busy" data-test="stations-take" @click="ask(false)">{{ t('points.import-take') }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.given {
  display: grid;
  grid-template-columns: 220px 1fr 240px;
  gap: 12px;
  margin-bottom: 10px;
}
.settings {
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.wrong {
  background: var(--el-color-danger-light-9);
  outline: 1px solid var(--el-color-danger);
  padding: 0 3px;
}
.is-fault {
  color: var(--el-color-danger);
}
.is-add {
  color: var(--el-color-success);
}
.is-change {
  color: var(--el-color-primary);
}
.sum {
  margin-right: 16px;
}
ul {
  margin: 4px 0 0;
  padding-left: 18px;
}
</style>
