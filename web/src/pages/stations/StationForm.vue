<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, reactive, ref, watchEffect } from 'vue'

import { api, message, type Station } from '../../api/client'
import FindingList from '../../components/FindingList.vue'
import ProbeStation from './ProbeStation.vue'
import CopyEntity from '../../components/CopyEntity.vue'
import TestButton from '../../components/TestButton.vue'
import { useForm } from '../../composables/useForm'
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
const { faults, general, busy, save, remove } = useForm('station', original, (name) => emit('saved', name))
const groups = ref(writeGroups(props.station?.poll_groups))
const optional = ['max_registers', 'max_bits', 'gap', 'write_function', 'partial_write', 'after_connect', 'bits', 'number', 'liveness', 'liveness_ask'] as const
const fields = ['name', 'link', 'unit', 'notation', 'order', 'poll', 'poll_groups', 'description', 'broadcast', 'read_write', ...optional]
const link = computed(() => site.links.find((l) => l.name === form.link))
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

// What is left empty has its default.
function submit() {
  const sent: Record<string, unknown> = { ...form, poll_groups: readGroups(groups.value) }
  for (const name of optional) sent[name] = form[name] || (name === 'gap' && form.gap === 0) ? form[name] : null
  void save(sent, form.name, fields)
}
async function refresh() {
  try {
    await api.refresh(form.name)
    ElMessage.success(`${form.name} is asked everything`)
  } catch (error) {
    general.value = message(error)
  }
}

const notations = [
  { value: 'offset', label: 'offset: 10 is offset 10' },
  { value: 'number', label: 'number: 10 is the tenth' },
  { value: 'ref5', label: 'ref5: 40010 is hr:9' },
  { value: 'ref6', label: 'ref6: 400010 is hr:9' },
]
const numberings = [
  { value: 'lsb1', label: 'lsb1: 1 is the least significant' },
  { value: 'msb0', label: 'msb0: 0 is the most significant' },
  { value: 'msb1', label: 'msb1: 1 is the most significant' },
]
const orders = [
  { value: 'ABCD', label: 'ABCD: most significant first' },
  { value: 'CDAB', label: 'CDAB: words reversed' },
  { value: 'BADC', label: 'BADC: bytes swapped in each word' },
  { value: 'DCBA', label: 'DCBA: least significant first' },
]
</script>

<template>
  <el-form label-position="top" @submit.prevent="submit">
    <el-alert v-if="general" :title="general" type="error" :closable="false" show-icon />
    <el-form-item label="Name" :error="faults.name"><el-input v-model="form.name" name="name" autofocus /></el-form-item>
    <el-form-item label="Description" :error="faults.description"><el-input v-model="form.description" name="description" /></el-form-item>
    <el-form-item label="Link" :error="faults.link">
      <el-select v-model="form.link" filterable><el-option v-for="l in site.links" :key="l.name" :value="l.name" :label="l.name" /></el-select>
    </el-form-item>
    <div class="form-row">
      <el-form-item :label="onPort ? 'Unit, 1 to 247' : 'Unit, 0 to 255'" :error="faults.unit"><el-input-number v-model="form.unit" :min="0" :max="255" name="unit" /></el-form-item>
      <el-form-item v-if="link?.transport === 'dialup'" label="Telephone number" :error="faults.number" class="wide"><el-input v-model="form.number" name="number" class="mono" /></el-form-item>
    </div>
    <div class="form-row">
      <el-form-item label="Addresses in its manual" :error="faults.notation">
        <el-select v-model="form.notation"><el-option v-for="n in notations" :key="n.value" v-bind="n" /></el-select>
      </el-form-item>
      <el-form-item label="Bits of a register" :error="faults.bits">
        <el-select v-model="form.bits" clearable placeholder="0 is the least significant"><el-option v-for="b in numberings" :key="b.value" v-bind="b" /></el-select>
      </el-form-item>
    </div>
    <el-form-item label="Byte order of its points, unless they say otherwise" :error="faults.order">
      <el-select v-model="form.order"><el-option v-for="o in orders" :key="o.value" v-bind="o" /></el-select>
    </el-form-item>
    <div class="form-row">
      <el-form-item label="Its points are read every" :error="faults.poll"><el-input v-model="form.poll" name="poll" placeholder="1s" /></el-form-item>
      <el-form-item label="Poll groups, one a line" :error="faults.poll_groups"><el-input v-model="groups" type="textarea" :autosize="{ minRows: 1, maxRows: 5 }" name="poll_groups" class="mono" placeholder="fast = 100ms" /></el-form-item>
    </div>
    <el-collapse>
      <el-collapse-item title="What the device bears" name="limits">
        <div class="form-row">
          <el-form-item label="Registers a read" :error="faults.max_registers"><el-input-number v-model="form.max_registers" :controls="false" placeholder="125" /></el-form-item>
          <el-form-item label="Bits a read" :error="faults.max_bits"><el-input-number v-model="form.max_bits" :controls="false" placeholder="2000" /></el-form-item>
          <el-form-item label="Gap read along" :error="faults.gap"><el-input-number v-model="form.gap" :controls="false" placeholder="16" /></el-form-item>
        </div>
        <el-form-item label="Functions for writing" :error="faults.write_function">
          <el-select v-model="form.write_function" clearable placeholder="auto: single for one address, multiple for several">
            <el-option value="single" label="always single (5, 6)" />
            <el-option value="multiple" label="always multiple (15, 16)" />
          </el-select>
        </el-form-item>
        <el-form-item label="Writing one bit or byte of a register" :error="faults.partial_write">
          <el-select v-model="form.partial_write" clearable placeholder="mask: with function 22">
            <el-option value="rewrite" label="rewrite: read, change, write back" />
            <el-option value="never" label="never" />
          </el-select>
        </el-form-item>
        <div class="form-row">
          <el-form-item label="Time it needs after connecting" :error="faults.after_connect"><el-input v-model="form.after_connect" placeholder="0s" /></el-form-item>
          <el-form-item label="Strings"><el-checkbox v-model="form.strings_alone">in a request of their own</el-checkbox></el-form-item>
        </div>
        <div class="form-row">
          <el-form-item label="Sign of life after" :error="faults.liveness"><el-input v-model="form.liveness" placeholder="15s" /></el-form-item>
          <el-form-item label="by" :error="faults.liveness_ask">
            <el-select v-model="form.liveness_ask" filterable allow-create clearable placeholder="reading hr:0">
              <el-option value="diagnostics" label="diagnostics (function 8)" />
              <el-option value="identification" label="identification (function 43/14)" />
              <el-option value="none" label="none" />
            </el-select>
          </el-form-item>
        </div>
        <el-form-item :error="faults.read_write || faults.broadcast">
          <el-checkbox v-model="form.read_write">may write and read back in one request (function 23)</el-checkbox>
          <el-checkbox v-if="onPort" v-model="form.broadcast">stands for all devices of the line: unit 0, for writes alone</el-checkbox>
        </el-form-item>
      </el-collapse-item>
    </el-collapse>
    <el-form-item class="switch"><el-switch v-model="form.enabled" active-text="enabled" inactive-text="disabled" /></el-form-item>
    <FindingList v-if="station" :subject="station.name" alone />
    <ProbeStation v-if="station" :station="station.name" />
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
