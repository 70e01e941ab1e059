<script setup lang="ts">
import { computed, reactive, watchEffect } from 'vue'

import type { Station } from '../../api/client'
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
const fields = ['name', 'link', 'unit', 'notation', 'order', 'poll', 'description', 'max_registers', 'max_bits', 'gap', 'write_function', 'partial_write', 'after_connect']

// What is left empty has its default.
function submit() {
  const optional = ['max_registers', 'max_bits', 'gap', 'write_function', 'partial_write', 'after_connect'] as const
  const sent: Record<string, unknown> = { ...form }
  for (const name of optional) sent[name] = form[name] || (name === 'gap' && form.gap === 0) ? form[name] : null
  void save(sent, form.name, fields)
}
const notations = [
  { value: 'offset', label: 'offset: 10 is offset 10' },
  { value: 'number', label: 'number: 10 is the tenth' },
  { value: 'ref5', label: 'ref5: 40010 is hr:9' },
  { value: 'ref6', label: 'ref6: 400010 is hr:9' },
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
    <el-form-item label="Unit identifier, 0 to 255" :error="faults.unit"><el-input-number v-model="form.unit" :min="0" :max="255" name="unit" /></el-form-item>
    <el-form-item label="How its manual counts addresses" :error="faults.notation">
      <el-select v-model="form.notation"><el-option v-for="n in notations" :key="n.value" v-bind="n" /></el-select>
    </el-form-item>
    <el-form-item label="Byte order of its points, unless they say otherwise" :error="faults.order">
      <el-select v-model="form.order"><el-option v-for="o in orders" :key="o.value" v-bind="o" /></el-select>
    </el-form-item>
    <el-form-item label="Poll, how often its points are read" :error="faults.poll"><el-input v-model="form.poll" name="poll" placeholder="1s" /></el-form-item>
    <el-collapse>
      <el-collapse-item title="What the device bears" name="limits">
        <div class="form-row">
          <el-form-item label="Most registers a read" :error="faults.max_registers"><el-input-number v-model="form.max_registers" :controls="false" placeholder="125" /></el-form-item>
          <el-form-item label="Most bits a read" :error="faults.max_bits"><el-input-number v-model="form.max_bits" :controls="false" placeholder="2000" /></el-form-item>
          <el-form-item label="Widest gap read along" :error="faults.gap"><el-input-number v-model="form.gap" :controls="false" placeholder="16" /></el-form-item>
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
      </el-collapse-item>
    </el-collapse>
    <el-form-item class="switch"><el-switch v-model="form.enabled" active-text="enabled" inactive-text="disabled" /></el-form-item>
    <TestButton v-if="station" kind="station" :name="station.name" />
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
</style>
