<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, reactive, ref, watchEffect } from 'vue'

import { api, message, type Station } from '../../api/client'
import FindingList from '../../components/FindingList.vue'
import AskStation from './AskStation.vue'
import ImportProfile from './ImportProfile.vue'
import ModbusFields from './ModbusFields.vue'
import OutstationFields from './OutstationFields.vue'
import ProbeStation from './ProbeStation.vue'
import CopyEntity from '../../components/CopyEntity.vue'
import TestButton from '../../components/TestButton.vue'
import ConflictDialog from '../../components/ConflictDialog.vue'
import { useForm, whenKnown } from '../../composables/useForm'
import { useSite } from '../../composables/useSite'

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
const groups = ref(writeGroups(props.station?.poll_groups))
const ofModbus = ['max_registers', 'max_bits', 'gap', 'charset', 'write_function', 'partial_write', 'after_connect', 'bits', 'number', 'liveness_ask'] as const
const ofDNP3 = ['outstation', 'master', 'integrity_poll', 'event_poll', 'class1_poll', 'class2_poll', 'class3_poll', 'unsolicited', 'unsolicited_classes', 'time_sync', 'link_reset', 'link_confirm'] as const
const fields = ['name', 'link', 'unit', 'notation', 'order', 'poll', 'poll_groups', 'description', 'broadcast', 'read_write', 'liveness', ...ofModbus, ...ofDNP3]
const link = computed(() => site.links.find((l) => l.name === form.link))
const dnp3 = computed(() => link.value?.protocol === 'dnp3')
const onPort = computed(() => link.value?.transport === 'serial' || link.value?.transport === 'dialup')

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
  const sent: Record<string, unknown> = { ...form, poll_groups: readGroups(groups.value) }
  for (const name of ofModbus) sent[name] = !dnp3.value && (form[name] || (name === 'gap' && form.gap === 0)) ? form[name] : null
  for (const name of ofDNP3) sent[name] = dnp3.value && (form[name] || typeof form[name] === 'number') ? form[name] : null
  sent.liveness = form.liveness || null
  return sent
}
whenKnown(link, () => begin(payload()))
const submit = () => save(payload(), form.name, fields)
async function refresh() {
  try {
    await api.refresh(form.name)
    ElMessage.success(`${form.name} is asked everything`)
  } catch (error) {
    general.value = message(error)
  }
}
</script>

<template>
  <el-form label-position="top" @submit.prevent="submit">
    <ConflictDialog :conflicts="conflicting" :name="original" @choose="resolve" />
    <el-alert v-if="general" :title="general" type="error" :closable="false" show-icon />
    <el-form-item label="Name" :error="faults.name"><el-input v-model="form.name" name="name" autofocus /></el-form-item>
    <el-form-item label="Description" :error="faults.description"><el-input v-model="form.description" name="description" /></el-form-item>
    <el-form-item label="Link" :error="faults.link">
      <el-select v-model="form.link" filterable><el-option v-for="l in site.links" :key="l.name" :value="l.name" :label="l.name" /></el-select>
    </el-form-item>
    <OutstationFields v-if="dnp3" :form="form" :faults="faults" :serial="onPort" />
    <ModbusFields v-else v-model:groups="groups" :form="form" :faults="faults" :link="link" />
    <el-form-item class="switch"><el-switch v-model="form.enabled" active-text="enabled" inactive-text="disabled" /></el-form-item>
    <FindingList v-if="station" :subject="station.name" />
    <ProbeStation v-if="station" :station="station.name" />
    <template v-if="station && dnp3">
      <AskStation :station="station.name" />
      <ImportProfile :station="station.name" />
    </template>
    <div v-if="station" class="ask">
      <TestButton kind="station" :name="station.name" />
      <el-button title="what it refused before included" data-test="refresh" @click="refresh">Ask everything now</el-button>
    </div>
    <CopyEntity v-if="station" kind="station" :name="station.name" @copied="(name) => emit('saved', name)" />
    <div class="form-actions">
      <el-button type="primary" native-type="submit" :loading="busy" data-test="save">Save</el-button>
      <el-button v-if="station" type="danger" plain @click="remove('Its points go with it.', true)">Remove…</el-button>
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
