<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, type Import } from '../../api/client'
import ListImport from '../../components/ListImport.vue'
import { useSite } from '../../composables/useSite'
import { scalingText } from '../../format'

// A list of points, from a file or pasted.
const emit = defineEmits<{ closed: []; taken: [] }>()
const { t } = useI18n()
const site = useSite()

const station = ref(site.stations.length === 1 ? site.stations[0]!.name : '')
const prefix = ref('')
const notation = ref('')
const settings = computed(() => ({ station: station.value, prefix: prefix.value, notation: notation.value }))

const sets = ref<{ name: string; columns: Record<string, string> }[]>([]) // columns that are kept
const kept = ref('') // the name of those that are used, or under which these are to be kept
void api.columnSets().then((list) => (sets.value = list))
const named = computed(() => sets.value.find((s) => s.name === kept.value)?.columns)

async function taken(out: Import) {
  emit('taken')
  if (kept.value) await api.keepColumns(kept.value, out.named)
}

const understood = ['address', 'type', 'order', 'scaling', 'range', 'unit', 'states', 'writable'] as const
function text(field: string, value: unknown): string {
  if (value === null || value === undefined) return ''
  return (field === 'scaling' && scalingText(value as never)) || (typeof value === 'object' ? JSON.stringify(value) : String(value))
}
</script>

<template>
  <list-import test="import" :title="t('points.import-title')" :paste="t('points.import-paste')" :name="t('points.tag')" :settings="settings" :named="named" :understood="understood" :text="text" :ask="api.importPoints" :marked="api.markedPoints" @closed="emit('closed')" @taken="taken">
    <el-select v-model="station" clearable filterable :placeholder="t('points.import-station')" :aria-label="t('points.import-station')" data-test="import-station">
      <el-option v-for="s in site.stations" :key="s.name" :value="s.name" :label="s.name" />
    </el-select>
    <el-select v-model="notation" clearable :placeholder="t('points.import-notation')" :aria-label="t('points.import-notation')">
      <el-option v-for="n in ['offset', 'number', 'ref5', 'ref6', 'hex']" :key="n" :value="n" :label="n" />
    </el-select>
    <el-select v-model="kept" clearable filterable allow-create default-first-option :placeholder="t('points.import-kept')" :aria-label="t('points.import-kept')" data-test="import-kept">
      <el-option v-for="s in sets" :key="s.name" :value="s.name" :label="s.name" />
    </el-select>
    <el-input v-model="prefix" :placeholder="t('points.import-prefix')" :aria-label="t('points.import-prefix')" />
  </list-import>
</template>
