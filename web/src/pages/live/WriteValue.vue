<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { ElMessageBox } from 'element-plus'

import { api, message, type Point, type WriteResult } from '../../api/client'

const { t } = useI18n()

// A write is asked about once, with what will be sent and where; then what was read back is shown.
const props = defineProps<{ point: Point }>()
const value = ref('')
const busy = ref(false)
const result = ref<WriteResult>()
const problem = ref('')

const names = computed(() => {
  const states = props.point.states
  if (!states || props.point.type === 'bits') return []
  return Array.isArray(states) ? states : Object.values(states)
})

async function write() {
  const p = props.point
  const unit = p.unit ? ` ${p.unit}` : ''
  try {
    await ElMessageBox.confirm(t('live.sent', { value: `${value.value}${unit}`, address: p.canonical, station: p.station }), t('live.really', { tag: p.tag }), {
      confirmButtonText: t('live.write'),
      cancelButtonText: t('common.leave-it'),
      type: 'warning',
    })
  } catch {
    return
  }
  busy.value = true
  result.value = undefined
  problem.value = ''
  try {
    result.value = await api.write(p.tag, value.value)
  } catch (error) {
    problem.value = message(error)
  }
  busy.value = false
}
</script>

<template>
  <section class="write">
    <h3>{{ t('live.write') }}</h3>
    <form class="row" @submit.prevent="write">
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
