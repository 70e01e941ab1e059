<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Row } from './draft'

// Finding text in the cells that are shown, and replacing it: one after another, or all at once in one step.
const props = defineProps<{ rows: () => Row[]; fields: string[] }>()
const emit = defineEmits<{ replace: [{ row: Row; field: string; text: string }[]]; go: [row: Row, field: string]; closed: [] }>()
const { t, te } = useI18n()

const find = ref('')
const put = ref('')
const field = ref('')
const exact = ref(false)
const looked = ref(0)

const pattern = computed(() => (find.value ? new RegExp(find.value.replace(/[.*+?^${}()|[\]\\]/g, '\\$&'), exact.value ? 'g' : 'gi') : undefined))
function hits(): { row: Row; field: string }[] {
  const p = pattern.value
  if (!p) return []
  const among = field.value ? [field.value] : props.fields
  const list: { row: Row; field: string }[] = []
  for (const row of props.rows()) for (const f of among) if (String(row[f] ?? '').search(p) >= 0) list.push({ row, field: f })
  return list
}
const found = computed(() => (void looked.value, hits()))
let last = -1
function next() {
  looked.value++
  const list = found.value
  if (list.length === 0) return
  last = (last + 1) % list.length
  emit('go', list[last]!.row, list[last]!.field)
}
const replaced = (h: { row: Row; field: string }) => ({ ...h, text: String(h.row[h.field] ?? '').replace(pattern.value!, () => put.value) })
function one() {
  const list = hits()
  if (list.length === 0) return
  const h = list[Math.min(Math.max(last, 0), list.length - 1)]!
  emit('replace', [replaced(h)])
  looked.value++
}
function all() {
  const list = hits()
  emit('replace', list.map(replaced))
  looked.value++
}
const name = (f: string) => (te(`columns.${f}`) ? t(`columns.${f}`) : f)
</script>

<template>
  <form class="find" @submit.prevent="next">
    <input v-model="find" name="find" :placeholder="t('sheet.find')" :aria-label="t('sheet.find')" autofocus />
    <input v-model="put" name="put" :placeholder="t('sheet.replace-by')" :aria-label="t('sheet.replace-by')" />
    <select v-model="field" :aria-label="t('sheet.in-column')">
      <option value="">{{ t('sheet.all-columns') }}</option>
      <option v-for="f in fields" :key="f" :value="f">{{ name(f) }}</option>
    </select>
    <label><input v-model="exact" type="checkbox" /> {{ t('sheet.exact') }}</label>
    <span class="quiet number" data-test="found">{{ find ? t('sheet.found', { n: found.length }) : '' }}</span>
    <el-button size="small" native-type="submit">{{ t('sheet.next') }}</el-button>
    <el-button size="small" :disabled="!find" data-test="replace-one" @click="one">{{ t('sheet.replace') }}</el-button>
    <el-button size="small" :disabled="!find" data-test="replace-all" @click="all">{{ t('sheet.replace-all') }}</el-button>
    <el-button size="small" text :aria-label="t('points.import-close')" @click="emit('closed')">✕</el-button>
  </form>
</template>

<style scoped>
.find {
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 6px 8px;
  background: var(--el-fill-color-light);
  border-bottom: 1px solid var(--el-border-color-lighter);
  font-size: 13px;
}
.find input:not([type='checkbox']),
.find select {
  font: inherit;
  padding: 3px 7px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--el-bg-color);
  color: inherit;
}
.find .el-button + .el-button {
  margin-left: 0;
}
</style>
