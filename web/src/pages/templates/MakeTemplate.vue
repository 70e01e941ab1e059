<script setup lang="ts">
import { reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, ApiProblem, message } from '../../api/client'
import { useSite } from '../../composables/useSite'

// A template made from a station that works.
const emit = defineEmits<{ closed: []; made: [name: string] }>()
const { t } = useI18n()
const site = useSite()
const form = reactive({ station: '', name: '', description: '', tags: '', identifies: '', base: '' })
const problem = ref('')
const faults = ref<Record<string, string>>({})

async function make() {
  problem.value = ''
  faults.value = {}
  try {
    const made = await api.makeTemplate(form.station, {
      name: form.name,
      description: form.description,
      tags: form.tags,
      identifies: form.identifies ? [form.identifies] : undefined,
      base: form.base === '' ? undefined : Number(form.base),
    })
    emit('made', made.name)
    emit('closed')
  } catch (error) {
    if (error instanceof ApiProblem) faults.value = error.fields
    if (!faults.value.name) problem.value = message(error)
  }
}
</script>

<template>
  <el-dialog :model-value="true" width="520" :title="t('templates.make')" @close="emit('closed')">
    <el-form label-position="top" @submit.prevent="make">
      <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon data-test="make-problem" />
      <el-form-item :label="t('templates.from-station')">
        <el-select v-model="form.station" filterable data-test="make-station"><el-option v-for="s in site.stations" :key="s.name" :value="s.name" :label="s.name" /></el-select>
      </el-form-item>
      <el-form-item :label="t('templates.name')" :error="faults.name"><el-input v-model="form.name" name="template-name" /></el-form-item>
      <el-form-item :label="t('stations.description')"><el-input v-model="form.description" name="template-description" /></el-form-item>
      <el-form-item :label="t('templates.tags')"><el-input v-model="form.tags" name="template-tags" :placeholder="t('templates.in-common')" /></el-form-item>
      <el-form-item :label="t('templates.says-of-itself')"><el-input v-model="form.identifies" name="template-identifies" placeholder="*WX-200*" /></el-form-item>
      <el-form-item :label="t('templates.base')"><el-input v-model="form.base" name="template-base" inputmode="numeric" :placeholder="t('templates.no-base')" /></el-form-item>
      <div class="form-actions"><el-button type="primary" native-type="submit" :disabled="!form.station || !form.name" data-test="make-save">{{ t('templates.make-it') }}</el-button></div>
    </el-form>
  </el-dialog>
</template>
