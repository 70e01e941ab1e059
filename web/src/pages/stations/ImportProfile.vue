<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type ProfileResult } from '../../api/client'

const { t } = useI18n()

// Makes points of the device profile that a maker gives with an outstation; shown before anything changes.
const props = defineProps<{ station: string }>()
const open = ref(false)
const name = ref('')
const file = ref<File>()
const prefix = ref(`${props.station}/`)
const found = ref<ProfileResult>()
const problem = ref('')
const busy = ref(false)
const input = ref<HTMLInputElement>()

async function chosen(event: Event) {
  file.value = (event.target as HTMLInputElement).files?.[0]
  if (!file.value) return
  name.value = file.value.name
  open.value = true
  await run(true)
  if (input.value) input.value.value = ''
}

async function run(dryRun: boolean) {
  busy.value = true
  problem.value = ''
  try {
    found.value = await api.profile(props.station, file.value!, name.value, prefix.value, dryRun)
    if (!dryRun) {
      open.value = false
      ElMessage.success(t('stations.made', { added: found.value.summary.added, changed: found.value.summary.changed }, found.value.summary.added))
    }
  } catch (error) {
    problem.value = message(error)
    found.value = undefined
  }
  busy.value = false
}
</script>

<template>
  <el-button :title="t('stations.the-dnp3-xml-device-profile-of')" data-test="profile" @click="input?.click()">{{ t('stations.points-of-a-device-profile') }}</el-button>
  <input ref="input" type="file" accept=".xml" hidden data-test="profile-file" @change="chosen" />
  <el-dialog v-model="open" :title="t('stations.points-of', { name })" width="min(720px, 94vw)">
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <el-input v-model="prefix" class="mono" :aria-label="t('stations.before-each-tag')" @change="run(true)"><template #prepend>{{ t('stations.tags-begin-with') }}</template></el-input>
    <template v-if="found">
      <p>{{ found.vendor }} {{ found.product }} {{ t('stations.profile-changes', { added: found.summary.added, changed: found.summary.changed }, found.summary.added) }}</p>
      <el-alert v-for="note in found.notes ?? []" :key="note" :title="note" type="warning" :closable="false" />
      <el-table :data="found.points.slice(0, 1000)" size="small" max-height="320">
        <el-table-column prop="tag" :label="t('stations.tag')" min-width="180" />
        <el-table-column prop="address" :label="t('stations.address')" width="90" class-name="mono" />
        <el-table-column :label="t('stations.class')" width="60"><template #default="{ row }">{{ row.class || '–' }}</template></el-table-column>
        <el-table-column prop="unit" :label="t('stations.unit')" width="70" />
        <el-table-column prop="description" :label="t('stations.description')" min-width="150" />
      </el-table>
    </template>
    <template #footer>
      <el-button @click="open = false">{{ t('stations.leave-it') }}</el-button>
      <el-button type="primary" :disabled="!found" data-test="profile-take" :loading="busy" @click="run(false)">{{ t('stations.make-these-points') }}</el-button>
    </template>
  </el-dialog>
</template>
