<script setup lang="ts">
import { ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type AuditEntry, type AuditVerdict } from '../../api/client'
import { useQuery } from '../../composables/useQuery'
import { time } from '../../time'

const { t } = useI18n()
const action = useQuery('action')
const by = useQuery('who')
const list = ref<AuditEntry[]>()
const next = ref<string>()
const problem = ref('')
const verdict = ref<AuditVerdict>()
const busy = ref(false)
const actions = ['sign-in', 'sign-out', 'refused', 'account', 'token', 'change', 'write', 'recording', 'export', 'service']

async function load(more = false) {
  try {
    const page = await api.audit({ limit: 200, action: action.value, who: by.value, cursor: more ? next.value : undefined })
    list.value = more ? [...(list.value ?? []), ...page.items] : page.items
    next.value = page.next
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
watch([action, by], () => load(), { immediate: true })
async function verify() {
  busy.value = true
  try {
    verdict.value = await api.verifyAudit()
  } catch (error) {
    problem.value = message(error)
  }
  busy.value = false
}
</script>

<template>
  <div class="page-bar">
    <el-select v-model="action" clearable :placeholder="t('people.any-action')" style="width: 170px" :aria-label="t('people.action')"><el-option v-for="a in actions" :key="a" :value="a" :label="t(`people.actions.${a}`)" /></el-select>
    <el-input v-model="by" clearable :placeholder="t('people.account')" style="width: 170px" :aria-label="t('people.account')" />
    <el-button :loading="busy" data-test="verify" @click="verify">{{ t('people.verify') }}</el-button>
  </div>
  <el-alert v-if="problem" :title="problem" type="error" show-icon @close="problem = ''" />
  <el-alert v-if="verdict?.whole" :title="t('people.whole', { n: verdict.entries })" :description="`${t('people.last-hash')} ${verdict.hash}`" type="success" show-icon data-test="verdict" @close="verdict = undefined" />
  <el-alert v-else-if="verdict" :title="t('people.not-whole')" :description="verdict.faults.map((f) => f.why).join('; ')" type="error" show-icon data-test="verdict" @close="verdict = undefined" />
  <div class="panel fill">
    <el-table v-if="list" :data="list" height="100%" size="small">
      <el-table-column prop="id" label="#" width="70" align="right" />
      <el-table-column :label="t('changes.time')" width="165"><template #default="{ row }">{{ time(row.time) }}</template></el-table-column>
      <el-table-column prop="who" :label="t('changes.who')" min-width="120" />
      <el-table-column prop="from" :label="t('people.from')" width="120" class-name="mono" />
      <el-table-column :label="t('people.action')" width="105"><template #default="{ row }">{{ t(`people.actions.${row.action}`) }}</template></el-table-column>
      <el-table-column prop="subject" :label="t('people.subject')" min-width="150" show-overflow-tooltip />
      <el-table-column prop="detail" :label="t('people.detail')" min-width="300" show-overflow-tooltip />
    </el-table>
  </div>
  <div v-if="next"><el-button @click="load(true)">{{ t('changes.show-older-ones') }}</el-button></div>
</template>
