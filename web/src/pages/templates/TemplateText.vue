<script setup lang="ts">
import { ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, ApiProblem, message, type ChangeSummary } from '../../api/client'

// Templates as a site file has them, to be changed or taken over: what is wrong stands beside its line, and what would change in them and in their
// stations is shown before it is done.
const props = defineProps<{ file: string; name: string }>()
const emit = defineEmits<{ closed: []; saved: [] }>()
const { t } = useI18n()

const text = ref(props.file)
const sum = ref<ChangeSummary>()
const problem = ref('')
const faults = ref<{ line?: number; message: string }[]>([])
const busy = ref(false)

let asked = 0
async function ask(dry: boolean) {
  const mine = ++asked
  busy.value = true
  try {
    const out = await api.applyTemplates(text.value, props.name, dry)
    if (mine !== asked) return
    sum.value = out
    faults.value = []
    problem.value = ''
    if (!dry) emit('saved')
  } catch (error) {
    if (mine !== asked) return
    sum.value = undefined
    faults.value = error instanceof ApiProblem ? (error.problem.errors ?? []).map((e) => ({ line: e.line, message: [e.field, e.message].filter(Boolean).join(': ') })) : []
    problem.value = faults.value.length > 0 ? '' : message(error)
  } finally {
    busy.value = false
  }
}
let later = 0
watch(
  text,
  () => {
    window.clearTimeout(later)
    later = window.setTimeout(() => void ask(true), 400)
  },
  { immediate: true },
)
const words = (kind: string, action: string) => `${t(`templates.${action}`)} ${t(`kinds.${kind}`)}`
</script>

<template>
  <el-dialog :model-value="true" width="min(1180px, 96vw)" top="5vh" :title="t('templates.text-of', { name })" data-test="template-text" @close="emit('closed')">
    <div class="both">
      <el-input v-model="text" type="textarea" :rows="26" resize="none" class="mono" spellcheck="false" :aria-label="t('templates.text-of', { name })" data-test="text" />
      <div class="aside" aria-live="polite">
        <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
        <template v-if="faults.length > 0">
          <b class="bad">{{ t('templates.faults', { n: faults.length }, faults.length) }}</b>
          <ul data-test="text-faults">
            <li v-for="f in faults" :key="`${f.line} ${f.message}`"><span v-if="f.line" class="number">{{ t('templates.line', { n: f.line }) }}</span> {{ f.message }}</li>
          </ul>
        </template>
        <template v-if="sum">
          <b data-test="text-sum">{{ t('templates.would', { added: sum.added, changed: sum.changed, removed: sum.removed }) }}</b>
          <ul>
            <li v-for="c in sum.changes.slice(0, 200)" :key="`${c.kind} ${c.name}`">{{ words(c.kind, c.action) }} <b>{{ c.name }}</b> <span class="quiet">{{ c.fields?.join(', ') }}</span></li>
          </ul>
        </template>
      </div>
    </div>
    <template #footer>
      <span class="quiet sum">{{ t('templates.own-stays') }}</span>
      <el-button @click="emit('closed')">{{ t('points.import-close') }}</el-button>
      <el-button type="primary" :disabled="busy || !sum || sum.added + sum.changed + sum.removed === 0" data-test="text-save" @click="ask(false)">{{ t('stations.save') }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: 1fr 380px;
  gap: 14px;
}
.both :deep(textarea) {
  font-family: var(--mono, ui-monospace, monospace);
  font-size: 12.5px;
  line-height: 1.5;
  white-space: pre;
  overflow: auto;
}
.aside {
  max-height: 66vh;
  overflow: auto;
}
.bad {
  color: var(--bad);
}
.sum {
  margin-right: 16px;
}
ul {
  padding-left: 18px;
  line-height: 1.5;
}
</style>
