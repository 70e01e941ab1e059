<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { ElMessage } from 'element-plus'

import { api, message, type Import } from '../../api/client'
import { useSite } from '../../composables/useSite'
import { scalingText } from '../../format'

// A list of points, from a file or pasted: what each column was taken for, what was understood beside what was written, and every fault, before
// anything is taken over.
const emit = defineEmits<{ closed: []; taken: [] }>()
const { t } = useI18n()
const site = useSite()

const list = ref<string | Blob>('')
const name = ref('')
const pasted = ref('')
const station = ref(site.stations.length === 1 ? site.stations[0]!.name : '')
const prefix = ref('')
const notation = ref('')
const byHand = ref<Record<string, string>>({}) // fields, by heading
const sets = ref<string[]>([]) // names under which columns are kept
const kept = ref('') // the one that is used, or under which these are to be kept
void api.columnSets().then((list) => (sets.value = list.map((s) => s.name)))
const read = ref<Import>()
const problem = ref('')
const busy = ref(false)

const meanings = ['tag', 'station', 'description', 'address', 'table', 'bit', 'type', 'words', 'order', 'unit', 'factor', 'divisor', 'offset', 'raw_min', 'raw_max', 'eng_min', 'eng_max', 'range', 'access', 'poll', 'poll_group', 'decimals', 'states', 'invalid', 'limit_low_low', 'limit_low', 'limit_high', 'limit_high_high', 'limit_state', 'limit_deadband', 'limit_delay', 'severity']

const query = computed(() => ({
  station: station.value,
  prefix: prefix.value,
  notation: notation.value,
  columns:
    Object.entries(byHand.value)
      .filter(([, field]) => field)
      .map(([heading, field]) => `${field}=${heading}`)
      .join(',') || (sets.value.includes(kept.value) ? kept.value : ''),
}))

let asked = 0
async function look() {
  if (!list.value) {
    read.value = undefined
    problem.value = ''
    return
  }
  const mine = ++asked
  busy.value = true
  try {
    const out = await api.importPoints(list.value, { ...query.value, dry_run: true })
    if (mine === asked) {
      read.value = out
      problem.value = ''
    }
  } catch (error) {
    if (mine === asked) {
      read.value = undefined
      problem.value = message(error)
    }
  } finally {
    if (mine === asked) busy.value = false
  }
}
let later = 0
watch([list, query], () => {
  window.clearTimeout(later)
  later = window.setTimeout(look, 300)
})
watch(pasted, (text) => {
  list.value = text
  name.value = ''
  byHand.value = {}
})
function chose(file: { raw?: File; name: string }) {
  if (!file.raw) return
  pasted.value = ''
  list.value = file.raw
  name.value = file.name
  byHand.value = {}
}

async function take() {
  busy.value = true
  try {
    const out = await api.importPoints(list.value, query.value)
    read.value = out
    if (out.applied) {
      const taken = Object.fromEntries(Object.entries(out.columns).flatMap(([heading, field]) => (field ? [[field, heading]] : [])))
      if (kept.value) await api.keepColumns(kept.value, taken)
      ElMessage.success(t('points.import-taken', { added: out.added, changed: out.changed }))
      emit('taken')
      emit('closed')
    }
  } catch (error) {
    problem.value = message(error)
  } finally {
    busy.value = false
  }
}

/** Fetches a copy of the list in which its faults are marked, to be put right there. */
async function fetchMarked() {
  try {
    const link = document.createElement('a')
    link.href = URL.createObjectURL(await api.markedPoints(list.value, query.value))
    link.download = 'marked.xlsx'
    link.click()
    window.setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
  } catch (error) {
    problem.value = message(error)
  }
}

const faults = computed(() => {
  const byRow = new Map<string, { column: string; message: string }[]>()
  for (const f of read.value?.faults ?? []) {
    const key = `${f.sheet ?? ''} ${f.row}`
    byRow.set(key, [...(byRow.get(key) ?? []), { column: f.column ?? '', message: f.message }])
  }
  return byRow
})
type Row = Import['items'][number]
const wrong = (row: Row, column?: string) => (faults.value.get(`${row.sheet ?? ''} ${row.row}`) ?? []).filter((f) => column === undefined || f.column === column)
const text = (value: unknown) => (value === null || value === undefined ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value))
const understood = ['address', 'type', 'order', 'scaling', 'range', 'unit', 'states', 'writable'] as const
const columns = computed(() => understood.filter((f) => read.value?.items.some((i) => i.fields[f] !== undefined && i.fields[f] !== null)))
const cellOf = (row: Row, field: string) => (field === 'scaling' ? scalingText(row.fields[field] as never) || text(row.fields[field]) : text(row.fields[field]))
const ready = computed(() => read.value !== undefined && read.value.faults_all === 0 && read.value.added + read.value.changed > 0)
</script>

<template>
  <el-dialog :model-value="true" fullscreen :title="t('points.import-title')" data-test="import-dialog" @close="emit('closed')">
    <div class="import">
      <div class="given">
        <el-upload drag :auto-upload="false" :show-file-list="false" accept=".csv,.tsv,.txt,.xlsx" :on-change="chose" data-test="import-file">
          <div>{{ name || t('points.import-drop') }}</div>
        </el-upload>
        <el-input v-model="pasted" type="textarea" :rows="4" :placeholder="t('points.import-paste')" data-test="import-paste" />
        <div class="settings">
          <el-select v-model="station" clearable filterable :placeholder="t('points.import-station')" :aria-label="t('points.import-station')" data-test="import-station">
            <el-option v-for="s in site.stations" :key="s.name" :value="s.name" :label="s.name" />
          </el-select>
          <el-select v-model="notation" clearable :placeholder="t('points.import-notation')" :aria-label="t('points.import-notation')">
            <el-option v-for="n in ['offset', 'number', 'ref5', 'ref6', 'hex']" :key="n" :value="n" :label="n" />
          </el-select>
          <el-select v-model="kept" clearable filterable allow-create default-first-option :placeholder="t('points.import-kept')" :aria-label="t('points.import-kept')" data-test="import-kept">
            <el-option v-for="s in sets" :key="s" :value="s" :label="s" />
          </el-select>
          <el-input v-model="prefix" :placeholder="t('points.import-prefix')" :aria-label="t('points.import-prefix')" />
        </div>
      </div>
      <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon data-test="import-problem" />
      <template v-if="read">
        <div class="quiet">{{ read.notes.join(' · ') }}</div>
        <el-alert v-if="read.faults_all > 0" :title="t('points.import-faults', { n: read.faults_all }, read.faults_all)" type="warning" :closable="false" show-icon data-test="import-faults">
          <ul>
            <li v-for="f in read.faults.slice(0, 6)" :key="`${f.sheet} ${f.row} ${f.column} ${f.message}`">{{ f.sheet }} {{ t('points.import-row') }} {{ f.row }}<template v-if="f.column">, {{ f.column }}</template>: {{ f.message }}</li>
          </ul>
          <el-button size="small" plain data-test="import-marked" @click="fetchMarked">{{ t('points.import-marked') }}</el-button>
        </el-alert>
        <el-table v-loading="busy" :data="read.items" height="100%" class="rows" size="small" border>
          <el-table-column :label="t('points.import-row')" width="76" fixed><template #default="{ row }">{{ row.sheet }} {{ row.row }}</template></el-table-column>
          <el-table-column width="84" fixed>
            <template #default="{ row }"><span :class="`is-${row.action}`" :title="wrong(row).map((f) => f.message).join('\n')">{{ t(`points.import-action.${row.action}`) }}</span></template>
          </el-table-column>
          <el-table-column :label="t('points.tag')" min-width="170" fixed><template #default="{ row }"><b :title="row.note">{{ row.tag }}</b></template></el-table-column>
          <el-table-column v-for="f in columns" :key="f" :label="f" min-width="88"><template #default="{ row }"><span class="mono">{{ cellOf(row, f) }}</span></template></el-table-column>
          <el-table-column v-for="h in read.headings" :key="`written ${h}`" min-width="128" class-name="written">
            <template #header>
              <div class="heading" :title="t('points.import-written')">“{{ h }}”</div>
              <el-select :model-value="byHand[h] ?? read.columns[h]" size="small" clearable :placeholder="t('points.import-nothing')" :aria-label="h" @change="(field: string) => (byHand = { ...byHand, [h]: field })">
                <el-option v-for="m in meanings" :key="m" :value="m" :label="m" />
              </el-select>
            </template>
            <template #default="{ row }"><span :class="{ wrong: wrong(row, h).length > 0 }" :title="wrong(row, h).map((f) => f.message).join('\n')">{{ row.cells[h] }}</span></template>
          </el-table-column>
        </el-table>
        <div v-if="read.rows > read.items.length" class="quiet">{{ t('points.import-more', { shown: read.items.length, all: read.rows }) }}</div>
      </template>
    </div>
    <template #footer>
      <span v-if="read && read.faults_all === 0" class="quiet sum" data-test="import-sum">{{ t('points.import-sum', { rows: read.rows, added: read.added, changed: read.changed, unchanged: read.unchanged }) }}</span>
      <el-button @click="emit('closed')">{{ t('points.import-close') }}</el-button>
      <el-button type="primary" :disabled="!ready || busy" data-test="import-take" @click="take">{{ t('points.import-take') }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.import {
  display: flex;
  flex-direction: column;
  gap: 10px;
  height: calc(100vh - 150px);
}
.given {
  display: grid;
  grid-template-columns: 240px 1fr 400px;
  gap: 12px;
}
.given :deep(.el-upload-dragger) {
  padding: 22px 12px;
}
.settings {
  display: grid;
  grid-template-columns: 1fr 1fr;
  align-content: start;
  gap: 8px;
}
.rows {
  flex: 1;
  min-height: 0;
}
.rows :deep(.written) {
  background: var(--el-fill-color-light);
}
.heading {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.wrong {
  background: var(--el-color-danger-light-9);
  outline: 1px solid var(--el-color-danger);
  padding: 0 3px;
}
.is-fault {
  color: var(--el-color-danger);
  font-weight: 600;
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
