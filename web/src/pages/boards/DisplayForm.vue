<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Point } from '../../api/client'
import { suits, type Display } from './display'
import { imageOf, mostOctets } from './image'

// What a display is: how it looks, and what it is called.
const model = defineModel<Display>({ required: true })
const props = defineProps<{ point?: Point; tags: string[]; fault?: string }>()
const emit = defineEmits<{ remove: [] }>()
const { t } = useI18n()

const shows = computed(() => (props.point ? suits(props.point) : model.value.show === 'trend' || model.value.show === 'table' ? (['trend', 'table'] as const) : [model.value.show]))
const set = (change: Partial<Display>) => (model.value = { ...model.value, ...change })
function look(show: Display['show']) {
  const several = show === 'trend' || show === 'table'
  const tags = model.value.tags ?? (model.value.tag ? [model.value.tag] : [])
  set(several ? { show, tags, tag: undefined } : { show, tag: model.value.tag ?? tags[0], tags: undefined })
}
function label(i: number, text: string) {
  const labels = [...(model.value.labels ?? [])]
  while (labels.length < i) labels.push('')
  labels[i] = text
  set({ labels: labels.some(Boolean) ? labels : undefined })
}
/** The picture of a file, as a board keeps it. */
async function picture(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (file && file.size > mostOctets) ElMessage({ type: 'error', message: t('boards.too-large') })
  else if (file) set({ image: await imageOf(file) })
}
</script>

<template>
  <aside class="panel form" data-test="display-form">
    <h2>{{ model.tag || t(`boards.shows.${model.show}`) }}</h2>
    <el-alert v-if="fault" :title="fault" type="error" :closable="false" />
    <el-form label-position="top">
      <el-form-item v-if="shows.length > 1" :label="t('boards.looks')"><el-select :model-value="model.show" data-test="show" @change="look"><el-option v-for="s in shows" :key="s" :value="s" :label="t(`boards.shows.${s}`)" /></el-select></el-form-item>
      <el-form-item v-if="model.show !== 'text' && model.show !== 'picture'" :label="t('boards.title')"><el-input :model-value="model.title" :placeholder="model.tag" @update:model-value="(v: string) => set({ title: v || undefined })" /></el-form-item>
      <el-form-item v-if="model.show === 'text'" :label="t('boards.text')"><el-input :model-value="model.text" type="textarea" :rows="3" @update:model-value="(v: string) => set({ text: v })" /></el-form-item>
      <template v-if="model.show === 'button'">
        <el-form-item :label="t('boards.label-off')"><el-input :model-value="model.labels?.[0]" @update:model-value="(v: string) => label(0, v)" /></el-form-item>
        <el-form-item :label="t('boards.label-on')"><el-input :model-value="model.labels?.[1]" @update:model-value="(v: string) => label(1, v)" /></el-form-item>
      </template>
      <el-form-item v-if="model.show === 'push'" :label="t('boards.label')"><el-input :model-value="model.labels?.[0]" @update:model-value="(v: string) => label(0, v)" /></el-form-item>
      <el-form-item v-if="model.show === 'trend' || model.show === 'table'" :label="t('boards.points')"><el-select :model-value="model.tags ?? []" multiple filterable @change="(v: string[]) => set({ tags: v })"><el-option v-for="tag in tags" :key="tag" :value="tag" :label="tag" /></el-select></el-form-item>
      <el-form-item v-if="model.show === 'trend'" :label="t('boards.last')"><el-input :model-value="model.last" placeholder="10m" @update:model-value="(v: string) => set({ last: v || undefined })" /></el-form-item>
      <el-form-item v-if="model.show === 'picture'" :label="t('boards.file')"><input type="file" accept=".svg,.png" data-test="picture-file" @change="picture" /></el-form-item>
      <el-button type="danger" plain data-test="remove-display" @click="emit('remove')">{{ t('boards.take-away') }}</el-button>
    </el-form>
  </aside>
</template>

<style scoped>
.form {
  width: 236px;
  flex: none;
  padding: 10px 14px;
  overflow: auto;
}
h2 {
  margin: 0 0 10px;
  font-size: 14px;
  overflow-wrap: anywhere;
}
</style>
