<script setup lang="ts">
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Protocol } from '../../api/client'

const { t } = useI18n()

// Runs a protocol action on an outstation. It is recorded as writes are.
const props = defineProps<{ station: string; actions: Protocol['actions'] }>()
const action = ref('')
const said = ref('')
const problem = ref('')
const busy = ref(false)

async function ask() {
  busy.value = true
  said.value = problem.value = ''
  try {
    said.value = (await api.ask(props.station, action.value)).message
  } catch (error) {
    problem.value = message(error)
  }
  busy.value = false
}
</script>

<template>
  <div class="ask-station">
    <div class="row">
      <el-select v-model="action" :placeholder="t('stations.have-it-do-something')" data-test="action"><el-option v-for="a in actions" :key="a.name" :value="a.name" :label="a.text" /></el-select>
      <el-button :disabled="!action" :loading="busy" data-test="ask" @click="ask">{{ t('stations.do-it') }}</el-button>
    </div>
    <div v-if="said" class="said" data-test="said">{{ said }}</div>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
  </div>
</template>

<style scoped>
.ask-station {
  margin: 10px 0;
}
.row {
  display: flex;
  gap: 10px;
}
.said {
  overflow-wrap: anywhere;
}
</style>
