<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Scaling } from '../../api/client'

const { t } = useI18n()

// The forms of scaling; what is not of the form chosen is not sent.
defineProps<{ fault?: string }>()
const model = defineModel<Scaling | null>({ required: true })

type Form = 'none' | 'two points' | 'factor' | 'square root' | 'table'
const s = model.value
const form = ref<Form>(!s ? 'none' : s.table ? 'table' : s.raw ? (s.curve === 'square-root' ? 'square root' : 'two points') : 'factor')
const values = reactive({
  raw0: s?.raw?.[0] ?? 0,
  raw1: s?.raw?.[1] ?? 27648,
  eng0: s?.eng?.[0] ?? 0,
  eng1: s?.eng?.[1] ?? 100,
  factor: s?.factor ?? 1,
  offset: s?.offset ?? 0,
  table: (s?.table ?? []).map((pair) => pair.join(' ')).join('\n'),
  clamp: s?.clamp ?? false,
})

watch([form, values], () => {
  const { raw0, raw1, eng0, eng1, factor, offset, clamp } = values
  switch (form.value) {
    case 'none':
      model.value = null
      break
    case 'factor':
      model.value = { factor, offset }
      break
    case 'table':
      model.value = { table: values.table.split('\n').filter((l) => l.trim()).map((l) => l.trim().split(/[\s;]+/).map(Number)), clamp }
      break
    default:
      model.value = { raw: [raw0, raw1], eng: [eng0, eng1], clamp, ...(form.value === 'square root' ? { curve: 'square-root' as const } : {}) }
  }
})

const line = computed(() => {
  if (form.value !== 'two points' || values.raw0 === values.raw1) return ''
  const factor = (values.eng1 - values.eng0) / (values.raw1 - values.raw0)
  return `factor ${Number(factor.toPrecision(7))}, offset ${Number((values.eng0 - values.raw0 * factor).toPrecision(7))}`
})
</script>

<template>
  <el-form-item :label="t('points.scaling-raw-to-engineering')" :error="fault">
    <el-radio-group v-model="form" size="small" class="forms">
      <el-radio-button v-for="f in ['none', 'two points', 'factor', 'square root', 'table']" :key="f" :value="f">{{ f }}</el-radio-button>
    </el-radio-group>
    <div v-if="form === 'two points' || form === 'square root'" class="grid">
      <span>{{ t('points.raw') }}</span>
      <el-input-number v-model="values.raw0" :controls="false" :aria-label="t('points.raw-low')" name="raw0" />
      <el-input-number v-model="values.raw1" :controls="false" :aria-label="t('points.raw-high')" name="raw1" />
      <span>{{ t('points.becomes') }}</span>
      <el-input-number v-model="values.eng0" :controls="false" :aria-label="t('points.engineering-low')" name="eng0" />
      <el-input-number v-model="values.eng1" :controls="false" :aria-label="t('points.engineering-high')" name="eng1" />
    </div>
    <div v-if="form === 'factor'" class="grid">
      <span>{{ t('points.raw-2') }}</span>
      <el-input-number v-model="values.factor" :controls="false" :aria-label="t('points.factor')" name="factor" />
      <span />
      <span>+</span>
      <el-input-number v-model="values.offset" :controls="false" :aria-label="t('points.offset')" name="offset" />
    </div>
    <el-input v-if="form === 'table'" v-model="values.table" type="textarea" :autosize="{ minRows: 3, maxRows: 10 }" class="mono" :placeholder="t('points.raw-and-engineering-value-a-pair')" />
    <div v-if="line" class="quiet line">{{ line }}</div>
    <el-checkbox v-if="form !== 'none' && form !== 'factor'" v-model="values.clamp">{{ t('points.hold-at-the-ends-of-the') }}</el-checkbox>
  </el-form-item>
</template>

<style scoped>
.line {
  width: 100%;
}
.forms {
  margin-bottom: 8px;
}
.grid {
  display: grid;
  grid-template-columns: 70px 1fr 1fr;
  gap: 6px;
  width: 100%;
}
.grid :deep(.el-input-number) {
  width: 100%;
}
</style>
