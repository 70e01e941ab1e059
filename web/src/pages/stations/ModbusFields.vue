<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Link, Station } from '../../api/client'

const { t } = useI18n()

// What a Modbus station has; form is the station that is being edited.
const props = defineProps<{ form: Station; faults: Record<string, string>; link?: Link; groups: string }>()
const emit = defineEmits<{ 'update:groups': [text: string] }>()
const form = computed(() => props.form)
const onPort = computed(() => props.link?.transport === 'serial' || props.link?.transport === 'dialup')

const choices = (field: string, values: string[]) => values.map((value) => ({ value, label: `${value}: ${t(`stations.${field}.${value}`)}` }))
const notations = computed(() => choices('notations', ['offset', 'number', 'ref5', 'ref6', 'hex']))
const numberings = computed(() => choices('numberings', ['lsb1', 'msb0', 'msb1']))
const orders = computed(() => choices('orders', ['ABCD', 'CDAB', 'BADC', 'DCBA']))
</script>

<template>
  <div>
    <div class="form-row">
      <el-form-item :label="t('stations.unit-from-to', onPort ? { first: 1, last: 247 } : { first: 0, last: 255 })" :error="faults.unit" data-field="unit"><el-input-number v-model="form.unit" :min="0" :max="255" name="unit" /></el-form-item>
      <el-form-item v-if="link?.transport === 'dialup'" :label="t('stations.telephone-number')" :error="faults.number" data-field="number" class="wide"><el-input v-model="form.number" name="number" class="mono" /></el-form-item>
    </div>
    <div class="form-row">
      <el-form-item :label="t('stations.addresses-in-its-manual')" :error="faults.notation" data-field="notation">
        <el-select v-model="form.notation"><el-option v-for="n in notations" :key="n.value" v-bind="n" /></el-select>
      </el-form-item>
      <el-form-item :label="t('stations.bits-of-a-register')" :error="faults.bits" data-field="bits">
        <el-select v-model="form.bits" clearable :placeholder="t('stations.numberings.lsb0')"><el-option v-for="b in numberings" :key="b.value" v-bind="b" /></el-select>
      </el-form-item>
    </div>
    <el-form-item :label="t('stations.byte-order-of-its-points-unless')" :error="faults.order" data-field="order">
      <el-select v-model="form.order"><el-option v-for="o in orders" :key="o.value" v-bind="o" /></el-select>
    </el-form-item>
    <div class="form-row">
      <el-form-item :label="t('stations.its-points-are-read-every')" :error="faults.poll" data-field="poll"><el-input v-model="form.poll" name="poll" placeholder="1s" /></el-form-item>
      <el-form-item :label="t('stations.poll-groups-one-a-line')" :error="faults.poll_groups" data-field="poll_groups"><el-input :model-value="groups" type="textarea" :autosize="{ minRows: 1, maxRows: 5 }" name="poll_groups" class="mono" @update:model-value="(text: string) => emit('update:groups', text)" :placeholder="t('stations.fast-100ms')" /></el-form-item>
    </div>
    <el-collapse>
      <el-collapse-item :title="t('stations.what-the-device-bears')" name="limits">
        <div class="form-row">
          <el-form-item :label="t('stations.registers-a-read')" :error="faults.max_registers" data-field="max_registers"><el-input-number v-model="form.max_registers" :controls="false" placeholder="125" /></el-form-item>
          <el-form-item :label="t('stations.bits-a-read')" :error="faults.max_bits" data-field="max_bits"><el-input-number v-model="form.max_bits" :controls="false" placeholder="2000" /></el-form-item>
          <el-form-item :label="t('stations.gap-read-along')" :error="faults.gap" data-field="gap"><el-input-number v-model="form.gap" :controls="false" placeholder="16" /></el-form-item>
        </div>
        <el-form-item :label="t('stations.functions-for-writing')" :error="faults.write_function" data-field="write_function">
          <el-select v-model="form.write_function" clearable :placeholder="t('stations.write-auto')">
            <el-option value="single" :label="t('stations.always-single-5-6')" />
            <el-option value="multiple" :label="t('stations.always-multiple-15-16')" />
          </el-select>
        </el-form-item>
        <el-form-item :label="t('stations.writing-one-bit-or-byte-of')" :error="faults.partial_write" data-field="partial_write">
          <el-select v-model="form.partial_write" clearable :placeholder="t('stations.mask-with-function-22')">
            <el-option value="rewrite" :label="t('stations.rewrite-read-change-write-back')" />
            <el-option value="never" :label="t('stations.never')" />
          </el-select>
        </el-form-item>
        <div class="form-row">
          <el-form-item :label="t('stations.wait-after-connecting')" :error="faults.after_connect" data-field="after_connect"><el-input v-model="form.after_connect" placeholder="0s" /></el-form-item>
          <el-form-item :label="t('stations.characters-of-its-strings')" :error="faults.charset" data-field="charset">
            <el-select v-model="form.charset" clearable :placeholder="t('stations.latin1-iso-8859-1')"><el-option value="utf8" :label="t('stations.utf8-utf-8')" /></el-select>
          </el-form-item>
        </div>
        <div class="form-row">
          <el-form-item :label="t('stations.sign-of-life-after')" :error="faults.liveness" data-field="liveness"><el-input v-model="form.liveness" :placeholder="t('stations.liveness-of-points')" /></el-form-item>
          <el-form-item :label="t('stations.by')" :error="faults.liveness_ask" data-field="liveness_ask">
            <el-select v-model="form.liveness_ask" filterable allow-create clearable :placeholder="t('stations.as-its-points-or-hr-0')">
              <el-option value="diagnostics" :label="t('stations.diagnostics-function-8')" />
              <el-option value="identification" :label="t('stations.identification-function-43-14')" />
              <el-option value="none" :label="t('stations.none')" />
            </el-select>
          </el-form-item>
        </div>
        <el-form-item :error="faults.read_write || faults.broadcast" data-field="read_write">
          <el-checkbox v-model="form.strings_alone">{{ t('stations.strings-in-a-request-of-their') }}</el-checkbox>
          <el-checkbox v-model="form.read_write">{{ t('stations.may-write-and-read-back-in') }}</el-checkbox>
          <el-checkbox v-if="onPort" v-model="form.broadcast">{{ t('stations.stands-for-all-devices-of-the') }}</el-checkbox>
        </el-form-item>
      </el-collapse-item>
    </el-collapse>
  </div>
</template>
