<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Point } from '../../api/client'

// The bounds of a point beyond which there is an alarm. Of one with two states, or with names for its numbers, the state that counts.
type Limits = NonNullable<Point['limits']>
const model = defineModel<Limits | null>({ required: true })
defineProps<{ fault?: string; bool: boolean; names: string[]; unit?: string }>()
const { t } = useI18n()

const numbers = ['low_low', 'low', 'high', 'high_high', 'rate'] as const
const limits = computed(() => model.value ?? {})
function set(change: Partial<Record<keyof Limits, unknown>>) {
  const next = { ...limits.value, ...change } as Record<string, unknown>
  for (const [name, v] of Object.entries(next)) if (v === null || v === undefined || v === '') delete next[name]
  model.value = [...numbers, 'state'].some((name) => name in next) ? (next as Limits) : null
}
</script>

<template>
  <el-form-item :label="t('points.limits', { unit: unit ? ` (${unit})` : '' })" :error="fault" data-field="limits">
    <div class="limits">
      <template v-if="!bool">
        <label v-for="name in numbers" :key="name"><span>{{ t(`alarms.limits.${name}`) }}</span><el-input-number :model-value="limits[name] ?? undefined" :controls="false" :data-test="`limit-${name}`" @update:model-value="(v: number | undefined) => set({ [name]: v ?? null })" /></label>
      </template>
      <label v-if="bool || names.length > 0"><span>{{ t('alarms.limits.state') }}</span><el-select :model-value="limits.state === undefined || limits.state === null ? '' : String(limits.state)" clearable data-test="limit-state" @update:model-value="(v: string) => set({ state: v || null })"><el-option v-for="n in names.length > 0 ? names : ['true', 'false']" :key="n" :value="n" :label="n" /></el-select></label>
      <template v-if="model">
        <label v-if="!bool"><span>{{ t('points.limit-deadband') }}</span><el-input-number :model-value="limits.deadband" :min="0" :controls="false" @update:model-value="(v: number | undefined) => set({ deadband: v ?? null })" /></label>
        <label><span>{{ t('points.limit-delay') }}</span><el-input :model-value="limits.delay" placeholder="0s" @update:model-value="(v: string) => set({ delay: v })" /></label>
        <label><span>{{ t('alarms.severity') }}</span><el-select :model-value="limits.severity ?? 3" @update:model-value="(v: number) => set({ severity: v })"><el-option v-for="n in 4" :key="n" :value="n" :label="t(`points.severity-${n}`)" /></el-select></label>
      </template>
    </div>
  </el-form-item>
</template>

<style scoped>
.limits {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(110px, 1fr));
  gap: 6px 12px;
  width: 100%;
}
label span {
  display: block;
  font-size: 12px;
  line-height: 1.5;
  color: var(--el-text-color-secondary);
}
label > :deep(.el-input-number) {
  width: 100%;
}
</style>
