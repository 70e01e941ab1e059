<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, reactive, ref, watchEffect } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Station } from '../../api/client'
import FindingList from '../../components/FindingList.vue'
import AskStation from './AskStation.vue'
import ImportProfile from './ImportProfile.vue'
import OwnList from '../../components/OwnList.vue'
import RecordField from '../../components/RecordField.vue'
import ProbeStation from './ProbeStation.vue'
import TemplateFields from './TemplateFields.vue'
import { forms } from './protocols'
import CopyEntity from '../../components/CopyEntity.vue'
import TestButton from '../../components/TestButton.vue'
import ConflictDialog from '../../components/ConflictDialog.vue'
import { useForm, whenKnown } from '../../composables/useForm'
import { useSite } from '../../composables/useSite'

const { t } = useI18n()

const props = defineProps<{ station?: Station }>()
const emit = defineEmits<{ saved: [name: string] }>()
const site = useSite()

const form = reactive<Station>({
  ...(props.station ?? { name: '', link: site.links[0]?.name ?? '', unit: 1, notation: 'offset', order: 'ABCD', poll: '1s', enabled: true }),
})
// The page may have been opened by its address, before the links came.
watchEffect(() => {
  if (!form.link) form.link = site.links[0]?.name ?? ''
})
const original = computed(() => props.station?.name ?? '')
const { faults, general, busy, begin, save, remove, conflicting, resolve } = useForm('station', original, (name) => emit('saved', name), props.station)
const record = computed({ get: () => form.record ?? null, set: (r) => (form.record = r) })
const groups = ref(writeGroups(props.station?.poll_groups))
// What every station has a value of; the rest of its protocol's fields is left to its default where it is empty.
const given = ['name', 'link', 'unit', 'notation', 'order', 'poll', 'enabled']
const fields = computed(() => protocol.value?.station_fields ?? [])
const link = computed(() => site.links.find((l) => l.name === form.link))
const protocol = computed(() => site.protocol(link.value?.protocol))

/** Poll groups as lines of name = period, and back. */
function writeGroups(of: Station['poll_groups']) {
  return Object.entries(of ?? {})
    .map(([name, period]) => `${name} = ${period}`)
    .join('\n')
}
function readGroups(text: string) {
  const pairs = text.split('\n').map((line) => line.split('=').map((part) => part.trim()))
  const named = pairs.filter(([name]) => name)
  return named.length > 0 ? Object.fromEntries(named.map(([name, period]) => [name, period ?? ''])) : null
}

/** What is saved. What is left empty has its default. */
function payload() {
  const sent: Record<string, unknown> = { ...form }
  for (const { station_fields } of site.protocols) {
    for (const name of station_fields) {
      const value = form[name as keyof Station]
      if (!given.includes(name)) sent[name] = fields.value.includes(name) && (value || value === 0) ? value : null
    }
  }
  if (fields.value.includes('poll_groups')) sent.poll_groups = readGroups(groups.value)
  sent.description = form.description
  sent.record = form.record ?? null
  sent.template = form.template ?? null
  sent.values = form.template ? (form.values ?? null) : null
  if (!form.template) sent.left_out = null
  return sent
}
whenKnown(protocol, () => begin(payload()))
const submit = () => save(payload(), form.name, fields.value)
async function refresh() {
  try {
    await api.refresh(form.name)
    ElMessage.success(t('stations.is-asked', { name: form.name }))
  } catch (error) {
    general.value = message(error)
  }
}
</script>

<template>
  <el-form label-position="top" @submit.prevent="submit">
    <ConflictDialog :conflicts="conflicting" :name="original" @choose="resolve" />
    <el-alert v-if="general" :title="general" type="error" :closable="false" show-icon />
    <el-form-item :label="t('stations.name')" :error="faults.name" data-field="name"><el-input v-model="form.name" name="name" autofocus /></el-form-item>
    <el-form-item :label="t('stations.description')" :error="faults.description" data-field="description"><el-input v-model="form.description" name="description" /></el-form-item>
    <el-form-item :label="t('stations.link')" :error="faults.link" data-field="link">
      <el-select v-model="form.link" filterable><el-option v-for="l in site.links" :key="l.name" :value="l.name" :label="l.name" /></el-select>
    </el-form-item>
    <TemplateFields :form="form" :faults="faults" :protocol="protocol?.protocol" :fresh="!station" />
    <OwnList v-if="station?.template && station.template === form.template" :station="station.name" :template="station.template" />
    <component :is="forms[protocol.protocol]" v-if="protocol" v-model:groups="groups" :form="form" :faults="faults" :link="link" />
    <RecordField v-model="record" station :fault="faults.record" />
    <el-form-item class="switch"><el-switch v-model="form.enabled" :aria-label="t('stations.enabled')" :active-text="t('stations.enabled')" :inactive-text="t('stations.disabled')" /></el-form-item>
    <FindingList v-if="station" :subject="station.name" />
    <ProbeStation v-if="station" :station="station.name" />
    <AskStation v-if="station && protocol?.actions.length" :station="station.name" :actions="protocol.actions" />
    <ImportProfile v-if="station && protocol?.profiles" :station="station.name" />
    <div v-if="station" class="ask">
      <TestButton kind="station" :name="station.name" />
      <el-button :title="t('stations.what-it-refused-before-included')" data-test="refresh" @click="refresh">{{ t('stations.ask-everything-now') }}</el-button>
    </div>
    <CopyEntity v-if="station" kind="station" :name="station.name" @copied="(name) => emit('saved', name)" />
    <div class="form-actions">
      <el-button type="primary" native-type="submit" :loading="busy" data-test="save">{{ t('stations.save') }}</el-button>
      <el-button v-if="station" type="danger" plain @click="remove(t('stations.goes-too'), true)">{{ t('stations.remove') }}</el-button>
    </div>
  </el-form>
</template>

<style scoped>
.switch {
  margin-top: 12px;
}
.ask {
  display: flex;
  align-items: flex-start;
  gap: 10px;
}
</style>
