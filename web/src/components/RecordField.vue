<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Point } from '../api/client'

// What is kept of a point's readings: as its station says, all, what moves, one in a period, or nothing.
type Record = NonNullable<Point['record']>
const model = defineModel<Record | null>({ required: true })
defineProps<{ fault?: string; station?: boolean }>()
const { t } = useI18n()

const object = computed(() => (typeof model.value === 'object' && model.value !== null ? model.value : {}))
const way = computed({
  get: () => (model.value === null || model.value === undefined ? '' : model.value === true ? 'all' : model.value === false ? 'none' : object.value.every ? 'every' : 'moves'),
  set: (w: string) => (model.value = w === '' ? null : w === 'all' ? true : w === 'none' ? false : w === 'every' ? { every: '1m' } : { deadband: 0.5, at_least: '10m' }),
})
const set = (change: object) => (model.value = { ...object.value, ...change })
</script>

<template>
  <div class="form-row">
    <el-form-item :label="t('points.record')" :error="fault" data-field="record">
      <el-select v-model="way" data-test="record">
        <el-option value="" :label="t(station ? 'points.record-none' : 'points.as-the-station')" />
        <el-option value="all" :label="t('points.record-all')" />
        <el-option value="moves" :label="t('points.record-moves')" />
        <el-option value="every" :label="t('points.record-every')" />
        <el-option v-if="!station" value="none" :label="t('points.record-none')" />
      </el-select>
    </el-form-item>
    <template v-if="way === 'moves'">
      <el-form-item :label="t('points.record-deadband')"><el-input-number :model-value="object.deadband" :min="0" :controls="false" @update:model-value="(v: number | undefined) => set({ deadband: v ?? 0 })" /></el-form-item>
      <el-form-item :label="t('points.record-at-least')"><el-input :model-value="object.at_least" placeholder="10m" @update:model-value="(v: string) => set({ at_least: v || undefined })" /></el-form-item>
    </template>
    <el-form-item v-if="way === 'every'" :label="t('points.record-period')"><el-input :model-value="object.every" placeholder="1m" @update:model-value="(v: string) => set({ every: v })" /></el-form-item>
  </div>
</template>
