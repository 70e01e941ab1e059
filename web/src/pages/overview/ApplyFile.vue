<script setup lang="ts">
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type ChangeSummary } from '../../api/client'
import { useSite } from '../../composables/useSite'

const { t } = useI18n()

// A site file is shown as what it would change before anything changes.
const site = useSite()
const open = ref(false)
const name = ref('')
const file = ref<File>()
const summary = ref<ChangeSummary>()
const problem = ref('')
const busy = ref(false)
const input = ref<HTMLInputElement>()

async function chosen(event: Event) {
  file.value = (event.target as HTMLInputElement).files?.[0]
  if (!file.value) return
  name.value = file.value.name
  open.value = true
  await run(true)
  if (input.value) input.value.value = ''
}

async function run(dryRun: boolean) {
  busy.value = true
  problem.value = ''
  summary.value = undefined
  try {
    summary.value = await api.apply(file.value!, name.value, dryRun)
    if (!dryRun) {
      open.value = false
      await site.loadStatus()
    }
  } catch (error) {
    problem.value = message(error)
  }
  busy.value = false
}
</script>

<template>
  <el-button @click="input?.click()">{{ t('overview.apply-a-site-file') }}</el-button>
  <input ref="input" type="file" accept=".yaml,.yml,.json" hidden data-test="apply-file" @change="chosen" />
  <el-dialog v-model="open" data-test="apply-dialog" :title="t('overview.apply-it', { name })" width="min(680px, 94vw)">
    <el-alert v-if="problem" type="error" :closable="false" show-icon :title="t('overview.the-file-was-not-applied-nothing')">
      <pre class="problem">{{ problem }}</pre>
    </el-alert>
    <template v-if="summary">
      <p>{{ t('overview.file-changes', { added: summary.added, changed: summary.changed, removed: summary.removed }) }}</p>
      <el-table :data="summary.changes.slice(0, 500)" size="small" max-height="320" :empty-text="t('overview.the-site-is-already-as-the')">
        <el-table-column prop="action" :label="t('overview.action')" width="90" />
        <el-table-column prop="kind" :label="t('overview.kind')" width="90" />
        <el-table-column prop="name" :label="t('overview.name')" />
        <el-table-column :label="t('overview.fields')"><template #default="{ row }">{{ row.fields?.join(', ') }}</template></el-table-column>
      </el-table>
    </template>
    <template #footer>
      <el-button @click="open = false">{{ t('overview.leave-it') }}</el-button>
      <el-button type="primary" :loading="busy" data-test="apply-take" :disabled="!summary || summary.changes.length === 0" @click="run(false)">{{ t('overview.apply') }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.problem {
  margin: 4px 0 0;
  white-space: pre-wrap;
  font-family: var(--mono);
}
</style>
