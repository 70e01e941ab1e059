<script setup lang="ts">
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Session } from '../../api/client'
import { useMe } from '../../composables/useMe'
import { time } from '../../time'

const { t } = useI18n()
const who = useMe()
const list = ref<Session[]>()
const problem = ref('')
async function load() {
  try {
    list.value = await api.sessions()
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
void load()
async function end(s: Session) {
  try {
    await api.endSession(s.id)
    if (s.here) await who.load()
    else await load()
  } catch (error) {
    problem.value = message(error)
  }
}
</script>

<template>
  <p class="quiet">{{ t('people.sessions-are') }}</p>
  <el-alert v-if="problem" :title="problem" type="error" show-icon @close="problem = ''" />
  <div class="panel fill">
    <el-table v-if="list" :data="list" height="100%">
      <el-table-column :label="t('people.account')" min-width="130"><template #default="{ row }">{{ row.account }}<b v-if="row.here"> ({{ t('people.here') }})</b></template></el-table-column>
      <el-table-column prop="from" :label="t('people.from')" min-width="130" class-name="mono" />
      <el-table-column prop="agent" :label="t('people.agent')" min-width="260" show-overflow-tooltip />
      <el-table-column :label="t('people.began')" width="170"><template #default="{ row }">{{ time(row.began) }}</template></el-table-column>
      <el-table-column :label="t('people.seen')" width="170"><template #default="{ row }">{{ time(row.seen) }}</template></el-table-column>
      <el-table-column width="110" align="right"><template #default="{ row }"><el-button size="small" @click="end(row)">{{ t('people.end') }}</el-button></template></el-table-column>
    </el-table>
  </div>
</template>

<style scoped>
p {
  margin: 0;
}
</style>
