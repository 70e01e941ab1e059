<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { EntityDifference } from '../api/client'
import { words } from '../composables/conflict'

// What differs between two states, a line for each field: what was at the left, what is at the right.
const props = defineProps<{ items: EntityDifference[]; from?: string; to?: string }>()
const { t } = useI18n()

interface Line {
  first: boolean
  action: string
  kind: string
  name: string
  field: string
  from: string
  to: string
}
const telling = ['link', 'station', 'host', 'unit', 'outstation', 'address', 'type']
const lines = computed(() =>
  props.items.flatMap((d): Line[] => {
    const head = { first: true, action: d.action, kind: d.kind, name: d.name }
    if (d.action !== 'change') {
      const gist = d.fields
        .filter((f) => telling.includes(f.field))
        .map((f) => words(d.action === 'add' ? f.to : f.from))
        .join(' ')
      return [{ ...head, field: '', from: d.action === 'add' ? '' : gist, to: d.action === 'add' ? gist : '' }]
    }
    return d.fields.map((f, i) => ({ ...head, first: i === 0, field: f.field, from: words(f.from), to: words(f.to) }))
  }),
)
const signs: Record<string, string> = { add: '+', change: '~', remove: '−' }
</script>

<template>
  <el-table :data="lines" size="small" height="100%" class="difference" :empty-text="t('changes.no-difference')">
    <el-table-column :label="t('changes.name')" min-width="190">
      <template #default="{ row }">
        <template v-if="row.first">
          <span :class="['act', row.action]"><b aria-hidden="true">{{ signs[row.action] }}</b> {{ t(`changes.act.${row.action}`) }}</span> <span class="quiet">{{ t(`kinds.${row.kind}`) }}</span>
          <div class="name">{{ row.name }}</div>
        </template>
      </template>
    </el-table-column>
    <el-table-column prop="field" :label="t('changes.field')" width="100" />
    <el-table-column prop="from" :label="from || t('changes.was')" min-width="115" class-name="was" />
    <el-table-column prop="to" :label="to || t('changes.is')" min-width="115" />
  </el-table>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
}
.act.add b {
  color: var(--good);
}
.act.change b {
  color: var(--uncertain);
}
.act.remove b {
  color: var(--bad);
}
.difference :deep(.was .cell) {
  color: var(--el-text-color-secondary);
}
</style>
