<script setup lang="ts">
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Test } from '../api/client'
import { useMe } from '../composables/useMe'

const { t } = useI18n()
const who = useMe()

// "Does it answer?", asked of a link or a station.
const props = defineProps<{ kind: 'link' | 'station'; name: string }>()
const result = ref<Test>()
const busy = ref(false)

async function ask() {
  busy.value = true
  result.value = undefined
  try {
    result.value = await api.test(props.kind, props.name)
  } catch (error) {
    result.value = { answers: false, message: message(error), round_trip_ms: 0 }
  }
  busy.value = false
}
</script>

<template>
  <div class="test">
    <el-button v-if="who.may('engineer')" :loading="busy" data-test="ask" @click="ask">{{ t('common.does-it-answer') }}</el-button>
    <el-alert v-if="result" :type="result.answers ? 'success' : 'error'" :closable="false" show-icon :title="result.answers ? t('common.yes-in', { ms: result.round_trip_ms.toFixed(1) }) : t('common.no')" :description="result.message" data-test="answer" />
  </div>
</template>

<style scoped>
.test {
  display: flex;
  flex-direction: column;
  align-items: flex-start;
  gap: 8px;
  width: 100%;
}
</style>
