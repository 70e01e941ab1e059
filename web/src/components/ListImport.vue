<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { message, type Import, type Query } from '../api/client'
import { headed, meant, toldOf, type ByHand } from './columns'

// A list from a file or pasted, before it is taken over: what each column was taken for, what was understood beside what was written, and every
// fault. Of a workbook, one sheet is shown at a time.
const props = defineProps<{
  title: string
  paste: string
  test: string // begins the names by which tests find its parts
  settings: Query // of the list as a whole
  named?: Record<string, string> // what its columns hold, as kept
  understood: readonly string[] // fields that are shown beside what is written
  name: string // the heading of what the rows are
  text: (field: string, value: unknown) => string
  ask: (list: string | Blob, query: Query) => Promise<Import>
  marked?: (list: string | Blob, query: Query) => Promise<Blob>
}>()
const emit = defineEmits<{ closed: []; taken: [Import] }>()
const { t } = useI18n()

const list = ref<string | Blob>('')
const file = ref('')
const pasted = ref('')
const read = ref<Import>()
const problem = ref('')
const busy = ref(false)
const behind = ref(false) // what is shown is not yet what would be taken over
const byHand = ref<ByHand>({})
const shown = ref('') // the sheet

const several = computed(() => (read.value?.sheets.length ?? 0) > 1)
const query = computed<Query>(() => ({ ...props.settings, columns: toldOf(props.named ?? {}, byHand.value, several.value) }))

let asked = 0
let later = 0
async function look(taking = false) {
  const mine = ++asked
  window.clearTimeout(later)
  if (!list.value) {
    read.value = undefined
    problem.value = ''
    behind.value = false
    return
  }
  busy.value = true
  try {
    const out = await props.ask(list.value, { ...query.value, dry_run: !taking })
    if (mine !== asked && !taking) return // what was taken over is told, whatever came after it
    if (!read.value) shown.value = ''
    read.value = out
    problem.value = ''
    if (!out.sheets.some((s) => s.name === shown.value)) shown.value = out.sheets[0]?.name ?? ''
    if (out.applied) {
      ElMessage.success(t('points.import-taken', { added: out.added, changed: out.changed }))
      emit('taken', out)
      emit('closed')
    }
  } catch (error) {
    if (mine !== asked && !taking) return
    if (!taking) read.value = undefined
    problem.value = message(error)
  } finally {
    if (mine === asked) busy.value = behind.value = false
  }
}
watch([list, () => JSON.stringify(query.value)], () => {
  asked++ // what is on its way is of something else
  behind.value = true
  window.clearTimeout(later)
  later = window.setTimeout(() => void look(), 300)
})

let known = '' // the file, or the first line that was pasted; while it is the same, what was said of the columns goes on
function take(what: string | Blob, called: string) {
  const now = called || String(what).split('\n', 1)[0]!
  if (now !== known) {
    byHand.value = {}
    read.value = undefined
  }
  known = now
  list.value = what
  file.value = called
}
watch(pasted, (text) => (text || !file.value) && take(text, ''))
function chose(chosen: { raw?: File; name: string }) {
  if (!chosen.raw) return
  take(chosen.raw, chosen.name)
  pasted.value = ''
}

/** Fetches a copy of the list in which its faults are marked, to be put right there. */
async function fetchMarked() {
  try {
    const link = document.createElement('a')
    link.href = URL.createObjectURL(await props.marked!(list.value, query.value))
    link.download = 'marked.xlsx'
    link.click()
    window.setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
  } catch (error) {
    problem.value = message(error)
  }
}

type Row = Import['items'][number]
const keyOf = (sheet: string | undefined, row: number) => `${sheet ?? ''}\n${row}`
const faults = computed(() => {
  const byRow = new Map<string, { column?: string; message: string }[]>()
  for (const f of read.value?.faults ?? []) byRow.set(keyOf(f.sheet, f.row), [...(byRow.get(keyOf(f.sheet, f.row)) ?? []), f])
  return byRow
})
const wrong = (row: Row, column?: string) => (faults.value.get(keyOf(row.sheet, row.row)) ?? []).filter((f) => column === undefined || f.column === column)
const said = (row: Row, column?: string) =>
  wrong(row, column)
    .map((f) => f.message)
    .join('\n')
const sheet = computed(() => read.value?.sheets.find((s) => s.name === shown.value) ?? read.value?.sheets[0])
const rows = computed(() => (several.value ? read.value!.items.filter((i) => (i.sheet ?? '') === shown.value) : (read.value?.items ?? [])))
const faultsOf = (name: string) => read.value!.faults.filter((f) => (f.sheet ?? '') === name).length
const fields = computed(() => props.understood.filter((f) => rows.value.some((i) => i.fields[f] !== undefined && i.fields[f] !== null)))
const ready = computed(() => read.value !== undefined && !behind.value && !busy.value && read.value.faults_all === 0 && read.value.added + read.value.changed > 0)
const place = (f: Import['faults'][number]) => `${several.value && f.sheet ? f.sheet + ', ' : ''}${t('points.import-row')} ${f.row}${f.column ? ', ' + f.column : ''}: `
</script>

<template>
  <el-dialog :model-value="true" fullscreen :title="title" :data-test="`${test}-dialog`" @close="emit('closed')">
    <div class="import">
      <div class="given">
        <el-upload drag :auto-upload="false" :show-file-list="false" accept=".csv,.tsv,.txt,.xlsx" :on-change="chose" :data-test="`${test}-file`">
          <div>{{ file || t('points.import-drop') }}</div>
        </el-upload>
        <el-input v-model="pasted" type="textarea" :rows="4" :placeholder="paste" :data-test="`${test}-paste`" />
        <div class="settings"><slot /></div>
      </div>
      <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon :data-test="`${test}-problem`" />
      <template v-if="read && sheet">
        <div class="quiet">{{ read.notes.join(' · ') }}</div>
        <el-alert v-if="read.faults_all > 0" :title="t('points.import-faults', { n: read.faults_all }, read.faults_all)" type="warning" :closable="false" show-icon :data-test="`${test}-faults`">
          <ul>
            <li v-for="f in read.faults.slice(0, 6)" :key="`${f.sheet} ${f.row} ${f.column} ${f.message}`"><template v-if="f.row">{{ place(f) }}</template>{{ f.message }}</li>
          </ul>
          <el-button v-if="marked" size="small" plain :data-test="`${test}-marked`" @click="fetchMarked">{{ t('points.import-marked') }}</el-button>
        </el-alert>
        <el-radio-group v-if="several" v-model="shown" size="small" :aria-label="t('points.import-sheets')" :data-test="`${test}-sheets`">
          <el-radio-button v-for="s in read.sheets" :key="s.name" :value="s.name">{{ s.name }}<template v-if="faultsOf(s.name)"> · {{ t('points.import-faulty', { n: faultsOf(s.name) }, faultsOf(s.name)) }}</template></el-radio-button>
        </el-radio-group>
        <el-table v-loading="busy" :data="rows" height="100%" class="rows" size="small" border>
          <el-table-column :label="t('points.import-row')" prop="row" width="60" fixed />
          <el-table-column width="84" fixed>
            <template #default="{ row }"><span :class="`is-${row.action}`" :title="said(row)">{{ t(`points.import-action.${row.action}`) }}</span></template>
          </el-table-column>
          <el-table-column :label="name" min-width="170" fixed><template #default="{ row }"><b :title="row.note">{{ row.tag }}</b></template></el-table-column>
          <el-table-column v-for="f in fields" :key="f" :label="f" min-width="88"><template #default="{ row }"><span class="mono">{{ text(f, row.fields[f]) }}</span></template></el-table-column>
          <el-table-column v-for="h in sheet.headings" :key="`written ${h}`" min-width="128" class-name="written">
            <template #header>
              <div class="heading" :title="t('points.import-written')">“{{ h }}”</div>
              <el-select :model-value="meant(byHand, sheet, h)" size="small" clearable filterable :placeholder="t('points.import-nothing')" :aria-label="h" :data-heading="h" @change="(field: string) => (byHand = headed(byHand, sheet!, h, field))">
                <el-option v-for="m in read.meanings" :key="m" :value="m" :label="m" />
              </el-select>
            </template>
            <template #default="{ row }"><span :class="{ wrong: wrong(row, h).length > 0 }" :title="said(row, h)">{{ row.cells[h] }}</span></template>
          </el-table-column>
        </el-table>
        <div v-if="read.rows > read.items.length" class="quiet">{{ t('points.import-more', { shown: read.items.length, all: read.rows }) }}</div>
      </template>
    </div>
    <template #footer>
      <span v-if="read && !behind && read.faults_all === 0" class="quiet sum" :data-test="`${test}-sum`">{{ t('points.import-sum', { rows: read.rows, added: read.added, changed: read.changed, unchanged: read.unchanged }) }}</span>
      <el-button @click="emit('closed')">{{ t('points.import-close') }}</el-button>
      <el-button type="primary" :disabled="!ready" :data-test="`${test}-take`" @click="look(true)">{{ t('points.import-take') }}</el-button>
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
