<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, type Template } from '../../api/client'
import ListImport from '../../components/ListImport.vue'
import { useSite } from '../../composables/useSite'

// A list of stations, a row each, from a file or pasted.
const props = defineProps<{ template?: string }>()
const emit = defineEmits<{ closed: []; taken: [] }>()
const { t } = useI18n()
const site = useSite()

const link = ref('')
const template = ref(props.template ?? '')
const settings = computed(() => ({ link: link.value, template: template.value }))
const templates = ref<Template[]>([])
void api.templates().then((all) => (templates.value = all))

const understood = ['link', 'unit', 'outstation', 'template', 'values'] as const
function text(field: string, value: unknown): string {
  if (field === 'values') return Object.entries(value as Record<string, string>).map(([name, v]) => `${name}: ${v}`).join(', ')
  return value === null || value === undefined ? '' : String(value)
}
</script>

<template>
  <list-import test="stations" :title="t('templates.import-stations')" :paste="t('templates.paste-stations')" :name="t('stations.name')" :settings="settings" :understood="understood" :text="text" :ask="api.importStations" @closed="emit('closed')" @taken="emit('taken')">
    <el-select v-model="link" clearable filterable :placeholder="t('templates.link-of-rows')" :aria-label="t('templates.link-of-rows')" data-test="stations-link">
      <el-option v-for="l in site.links" :key="l.name" :value="l.name" :label="l.name" />
    </el-select>
    <el-select v-model="template" clearable filterable :placeholder="t('templates.template-of-rows')" :aria-label="t('templates.template-of-rows')" data-test="stations-template">
      <el-option v-for="e in templates" :key="e.name" :value="e.name" :label="e.name" />
    </el-select>
  </list-import>
</template>
