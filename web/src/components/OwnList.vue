<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Difference } from '../api/client'

// What a station has otherwise than its template, and giving that up.
const props = defineProps<{ station: string; template: string }>()
const emit = defineEmits<{ changed: [] }>()
const { t } = useI18n()

const list = ref<Difference[]>()
const problem = ref('')
async function load() {
  try {
    list.value = await api.own(props.station)
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
watch(() => [props.station, props.template], load, { immediate: true })

async function conform(d?: Difference) {
  try {
    const sum = await api.conform(props.station, d ? { names: [d.name], fields: d.field ? [d.field] : undefined } : {})
    ElMessage.success(t('templates.conformed', { n: sum.added + sum.changed }))
    emit('changed')
    await load()
  } catch (error) {
    problem.value = message(error)
  }
}
const text = (v: unknown) => (v === undefined || v === null ? '–' : typeof v === 'object' ? JSON.stringify(v) : String(v))
</script>

<template>
  <div class="own" data-test="own">
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <p v-if="list && list.length === 0" class="quiet">{{ t('templates.nothing-own', { template }) }}</p>
    <template v-else-if="list">
      <div class="bar">
        <span>{{ t('templates.own-of', { template, n: list.length }, list.length) }}</span>
        <el-button size="small" plain data-test="conform" @click="conform()">{{ t('templates.conform-all') }}</el-button>
      </div>
      <table>
        <thead>
          <tr><th>{{ t('templates.what') }}</th><th>{{ t('templates.field') }}</th><th>{{ t('templates.own') }}</th><th>{{ t('templates.in-template') }}</th><th /></tr>
        </thead>
        <tbody>
          <tr v-for="d in list" :key="`${d.name} ${d.what} ${d.field}`">
            <td class="name" :title="d.name">{{ d.name }}</td>
            <td>{{ d.field }}</td>
            <td v-if="d.what === 'own'" class="mono">{{ text(d.own) }}</td>
            <td v-else class="quiet">{{ t(`templates.${d.what}`) }}</td>
            <td class="mono">{{ d.what === 'own' ? text(d.template) : '' }}</td>
            <td class="act"><el-button v-if="d.what !== 'added'" size="small" text type="primary" @click="conform(d)">{{ t('templates.conform') }}</el-button></td>
          </tr>
        </tbody>
      </table>
    </template>
  </div>
</template>

<style scoped>
.own {
  margin: 12px 0;
}
.bar {
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 10px;
}
table {
  width: 100%;
  border-collapse: collapse;
  margin-top: 6px;
  font-size: 13px;
}
th {
  text-align: left;
  font-weight: 500;
  color: var(--el-text-color-secondary);
}
td,
th {
  padding: 3px 6px;
  border-bottom: 1px solid var(--el-border-color-lighter);
}
.name {
  max-width: 240px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.act {
  text-align: right;
}
</style>
