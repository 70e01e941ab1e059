<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Point } from '../../api/client'
import { useWrite } from '../../composables/useWrite'

const { t } = useI18n()

// A write is asked about once, with what will be sent and where; then what was read back is shown.
const props = defineProps<{ point: Point }>()
const value = ref('')
const { busy, result, problem, write } = useWrite()

const names = computed(() => {
  const states = props.point.states
  if (!states || props.point.type === 'bits') return []
  return Array.isArray(states) ? states : Object.values(states)
})

</script>

<template>
  <section class="write">
    <h3>{{ t('live.write') }}</h3>
    <form class="row" @submit.prevent="write(point, value)">
      <el-select v-if="names.length > 0" v-model="value" :placeholder="t('live.value')" data-test="write-value"><el-option v-for="n in names" :key="n" :value="n" :label="n" /></el-select>
      <el-input v-else v-model="value" :placeholder="point.type === 'bool' ? t('live.true-or-false') : t('live.a-value')" name="write-value"><template v-if="point.unit" #append>{{ point.unit }}</template></el-input>
      <el-button type="primary" native-type="submit" :loading="busy" :disabled="value === ''" data-test="write">{{ t('live.write-2') }}</el-button>
    </form>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" />
    <el-alert v-if="result" :title="result.outcome" :description="result.message" :type="result.outcome === 'done' ? 'success' : result.outcome === 'refused' ? 'error' : 'warning'" :closable="false" show-icon data-test="outcome" />
  </section>
</template>

<style scoped>
h3 {
  margin: 0 0 6px;
  font-size: 14px;
}
.row {
  display: flex;
  gap: 8px;
  margin-bottom: 8px;
}
</style>
