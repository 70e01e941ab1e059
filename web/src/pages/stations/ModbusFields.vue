<script setup lang="ts">
import { computed } from 'vue'

import type { Link, Station } from '../../api/client'

// What a Modbus station has; form is the station that is being edited.
const props = defineProps<{ form: Station; faults: Record<string, string>; link?: Link; groups: string }>()
const emit = defineEmits<{ 'update:groups': [text: string] }>()
const form = computed(() => props.form)
const onPort = computed(() => props.link?.transport === 'serial' || props.link?.transport === 'dialup')

const notations = [
  { value: 'offset', label: 'offset: 10 is offset 10' },
  { value: 'number', label: 'number: 10 is the tenth' },
  { value: 'ref5', label: 'ref5: 40010 is hr:9' },
  { value: 'ref6', label: 'ref6: 400010 is hr:9' },
  { value: 'hex', label: 'hex: 0x0A is offset 10' },
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
  <div>
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
      <el-form-item label="Poll groups, one a line" :error="faults.poll_groups"><el-input :model-value="groups" type="textarea" :autosize="{ minRows: 1, maxRows: 5 }" name="poll_groups" class="mono" @update:model-value="(text: string) => emit('update:groups', text)" placeholder="fast = 100ms" /></el-form-item>
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
          <el-form-item label="Wait after connecting" :error="faults.after_connect"><el-input v-model="form.after_connect" placeholder="0s" /></el-form-item>
          <el-form-item label="Characters of its strings" :error="faults.charset">
            <el-select v-model="form.charset" clearable placeholder="latin1: ISO 8859-1"><el-option value="utf8" label="utf8: UTF-8" /></el-select>
          </el-form-item>
        </div>
        <div class="form-row">
          <el-form-item label="Sign of life after" :error="faults.liveness"><el-input v-model="form.liveness" placeholder="15s; with points 1m" /></el-form-item>
          <el-form-item label="by" :error="faults.liveness_ask">
            <el-select v-model="form.liveness_ask" filterable allow-create clearable placeholder="as its points, or hr:0">
              <el-option value="diagnostics" label="diagnostics (function 8)" />
              <el-option value="identification" label="identification (function 43/14)" />
              <el-option value="none" label="none" />
            </el-select>
          </el-form-item>
        </div>
        <el-form-item :error="faults.read_write || faults.broadcast">
          <el-checkbox v-model="form.strings_alone">strings in a request of their own</el-checkbox>
          <el-checkbox v-model="form.read_write">may write and read back in one request (function 23)</el-checkbox>
          <el-checkbox v-if="onPort" v-model="form.broadcast">stands for all devices of the line: unit 0, for writes alone</el-checkbox>
        </el-form-item>
      </el-collapse-item>
    </el-collapse>
  </div>
</template>
