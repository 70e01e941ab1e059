<script setup lang="ts">
import { computed, reactive, ref, watch, watchEffect } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Point } from '../../api/client'
import ConflictDialog from '../../components/ConflictDialog.vue'
import { useForm, whenKnown } from '../../composables/useForm'
import { useSite } from '../../composables/useSite'
import LimitsField from './LimitsField.vue'
import RecordField from '../../components/RecordField.vue'
import ScalingFields from './ScalingFields.vue'
import { readCodes, readRange, readStates, writeStates } from './states'

const { t } = useI18n()

const props = defineProps<{ point?: Point }>()
const emit = defineEmits<{ saved: [tag: string] }>()
const site = useSite()

const p = props.point
const form = reactive({
  tag: p?.tag ?? '',
  station: p?.station ?? site.stations[0]?.name ?? '',
  address: p?.address ?? '',
  table: '',
  type: (p?.type ?? '') as string,
  length: p?.length,
  charset: p?.charset,
  order: (p?.order ?? '') as string,
  scaling: p?.scaling ?? null,
  unit: p?.unit ?? '',
  decimals: p?.decimals ?? undefined,
  range: (p?.range ?? []).join(', '),
  description: p?.description ?? '',
  states: writeStates(p?.states),
  invalid: (p?.invalid ?? []).join(', '),
  invert: p?.invert ?? false,
  writable: p?.writable ?? false,
  poll: p?.poll ?? '',
  poll_group: p?.poll_group ?? '',
  read_back: p?.read_back ?? '',
  pulse: p?.pulse ?? '',
  pulse_off: p?.pulse_off ?? '',
  pulse_count: p?.pulse_count,
  control: (p?.control ?? '') as string,
  direct: p?.select === false,
  record: p?.record ?? null,
  limits: p?.limits ?? null,
})
// The page may have been opened by its address, before the stations came.
watchEffect(() => {
  if (!form.station) form.station = site.stations[0]?.name ?? ''
})
const original = computed(() => p?.tag ?? '')
const { faults, general, busy, begin, save, remove, conflicting, resolve } = useForm('point', original, (tag) => emit('saved', tag), p)

const station = computed(() => site.stations.find((s) => s.name === form.station))
const protocol = computed(() => site.protocolOf(station.value))
/** Whether a field means something with the station's protocol. */
const has = (field: string) => protocol.value?.point_fields.includes(field) ?? false
/** The device's objects tell their type and are reported. */
const typed = computed(() => protocol.value?.typed ?? false)
const tables = computed(() => (typed.value ? [] : (protocol.value?.spaces ?? [])))
const kind = computed(() => form.address.trim().split(':')[0] ?? '')
const output = computed(() => has('control') && form.writable && kind.value === 'bo' && !form.address.includes('.'))
const selectable = computed(() => output.value || (has('select') && form.writable && kind.value === 'ao'))
const pulsed = computed(() => output.value && (form.control === 'pulse' || form.control === 'trip-close'))
/** The names of its values, as they are typed. */
const stateNames = computed(() => {
  const states = readStates(form.states)
  return states ? Object.values(states as Record<string, string>).filter(Boolean) : []
})
const plain = computed(() => /^\s*[0-9]/.test(form.address))

// What the address means is said by the service, while it is typed.
const meaning = ref('')
const addressFault = ref('')
let asked = 0
watch(
  () => [form.address, form.station, form.table],
  async () => {
    const turn = ++asked
    if (!form.address.trim() || !form.station) {
      meaning.value = addressFault.value = ''
      return
    }
    try {
      const m = await api.address(form.address, form.station, plain.value ? form.table : '')
      if (turn !== asked) return
      meaning.value = `${m.canonical}: ${m.meaning}`
      addressFault.value = ''
    } catch (error) {
      if (turn !== asked) return
      meaning.value = ''
      addressFault.value = message(error).replace(/^address: /, '')
    }
  },
  { immediate: true },
)

const fields = ['tag', 'station', 'address', 'type', 'length', 'charset', 'order', 'scaling', 'unit', 'decimals', 'range', 'description', 'states', 'invalid', 'poll', 'writable', 'invert', 'poll_group', 'read_back', 'pulse', 'pulse_off', 'pulse_count', 'control', 'select', 'record', 'limits']
/** What is saved. */
function payload() {
  const states = readStates(form.states)
  const { direct, ...said } = form
  return {
    ...said,
    control: output.value ? form.control || null : null,
    select: selectable.value && direct ? false : null,
    pulse_off: pulsed.value ? form.pulse_off || null : null,
    pulse_count: pulsed.value ? (form.pulse_count ?? null) : null,
    table: form.table && plain.value ? form.table : null,
    type: form.type || null,
    length: !typed.value && (form.type === 'string' || form.type === 'bits') ? (form.length ?? null) : null,
    order: has('order') ? form.order || null : null,
    decimals: form.decimals ?? null,
    range: readRange(form.range),
    poll: has('poll') ? form.poll || null : null,
    poll_group: has('poll_group') ? form.poll_group || null : null,
    read_back: form.writable ? form.read_back || null : null,
    pulse: form.writable && (!typed.value || pulsed.value) ? form.pulse || null : null,
    states,
    invalid: readCodes(form.invalid),
  }
}
whenKnown(protocol, () => begin(payload()))
const submit = () => save(payload(), form.tag, fields)
</script>

<template>
  <el-form label-position="top" @submit.prevent="submit">
    <ConflictDialog :conflicts="conflicting" :name="original" @choose="resolve" />
    <el-alert v-if="general" :title="general" type="error" :closable="false" show-icon />
    <el-form-item :label="t('points.tag')" :error="faults.tag" data-field="tag"><el-input v-model="form.tag" name="tag" placeholder="tern/pump2/current" /></el-form-item>
    <el-form-item :label="t('points.description')" :error="faults.description" data-field="description"><el-input v-model="form.description" name="description" /></el-form-item>
    <el-form-item :error="faults.station" data-field="station">
      <template #label>{{ t('points.station') }} <span v-if="station && !typed" class="quiet">{{ t('points.counts', { notation: station.notation, order: station.order }) }}</span></template>
      <el-select v-model="form.station" filterable><el-option v-for="s in site.stations" :key="s.name" :value="s.name" :label="s.name" /></el-select>
    </el-form-item>
    <div class="form-row">
      <el-form-item :label="t(typed ? 'points.kind-and-index' : 'points.as-printed')" :error="faults.address || addressFault" data-field="address" class="wide">
        <el-input v-model="form.address" name="address" class="mono" :placeholder="typed ? 'bi:0, ai:3, ctr:7, bo:1; ai:3.deadband' : '40010 or hr:9 or co:0x200'" />
        <div v-if="meaning" class="meaning" data-test="meaning">{{ meaning }}</div>
      </el-form-item>
      <el-form-item v-if="plain && tables.length" :label="t('points.table')">
        <el-select v-model="form.table" clearable :placeholder="t('points.from-the-number')"><el-option v-for="table in tables" :key="table.space" :value="table.space" :label="`${table.space}, ${table.name}s`" /></el-select>
      </el-form-item>
    </div>
    <div class="form-row">
      <el-form-item :label="t('points.type')" :error="faults.type" data-field="type">
        <el-select v-model="form.type" clearable :placeholder="t('points.by-its-table')" data-test="type"><el-option v-for="type in protocol?.types" :key="type" :value="type" :label="type" /></el-select>
      </el-form-item>
      <el-form-item v-if="has('order')" :label="t('points.byte-order')" :error="faults.order" data-field="order">
        <el-select v-model="form.order" clearable :placeholder="t('points.as-the-station')"><el-option v-for="o in ['ABCD', 'CDAB', 'BADC', 'DCBA']" :key="o" :value="o" :label="o" /></el-select>
      </el-form-item>
      <el-form-item v-if="!typed && (form.type === 'string' || form.type === 'bits')" :label="t(form.type === 'string' ? 'points.characters' : 'points.bits')" :error="faults.length" data-field="length">
        <el-input-number v-model="form.length" :controls="false" name="length" />
      </el-form-item>
      <el-form-item v-if="has('charset') && form.type === 'string'" :label="t('points.character-set')" :error="faults.charset" data-field="charset">
        <el-select v-model="form.charset" clearable :placeholder="t('points.as-the-station')"><el-option v-for="c in ['latin1', 'utf8']" :key="c" :value="c" :label="c" /></el-select>
      </el-form-item>
    </div>
    <ScalingFields v-model="form.scaling" :fault="faults.scaling" />
    <div class="form-row">
      <el-form-item :label="t('points.unit')" :error="faults.unit" data-field="unit"><el-input v-model="form.unit" name="unit" /></el-form-item>
      <el-form-item :label="t('points.decimals')" :error="faults.decimals" data-field="decimals"><el-input-number v-model="form.decimals" :min="0" :max="12" :controls="false" name="decimals" /></el-form-item>
      <el-form-item :label="t('points.range')" :error="faults.range" data-field="range"><el-input v-model="form.range" name="range" placeholder="0, 2.8" /></el-form-item>
      <el-form-item v-if="has('poll')" :label="t('points.poll')" :error="faults.poll" data-field="poll"><el-input v-model="form.poll" name="poll" :placeholder="t('points.as-the-station')" /></el-form-item>
      <el-form-item v-if="station?.poll_groups" :label="t('points.poll-group')" :error="faults.poll_group" data-field="poll_group">
        <el-select v-model="form.poll_group" clearable :placeholder="t('points.none')"><el-option v-for="(period, name) in station.poll_groups" :key="name" :value="String(name)" :label="`${name}: ${period}`" /></el-select>
      </el-form-item>
    </div>
    <el-form-item :label="t('points.names-of-its-values-one-a')" :error="faults.states" data-field="states">
      <el-input v-model="form.states" type="textarea" :autosize="{ minRows: 2, maxRows: 8 }" name="states" class="mono" />
    </el-form-item>
    <el-form-item :label="t('points.raw-codes-by-which-the-device')" :error="faults.invalid" data-field="invalid">
      <el-input v-model="form.invalid" name="invalid" class="mono" placeholder="0x8000, 32767" />
    </el-form-item>
    <el-form-item :error="faults.writable || faults.invert" data-field="writable">
      <el-checkbox v-model="form.writable" name="writable">{{ t('points.may-be-written') }}</el-checkbox>
      <el-checkbox v-model="form.invert" name="invert">{{ t('points.inverted-0-means-true') }}</el-checkbox>
    </el-form-item>
    <div v-if="form.writable" class="form-row">
      <el-form-item :label="t('points.read-back-from-optional')" :error="faults.read_back" data-field="read_back"><el-input v-model="form.read_back" name="read_back" class="mono" :placeholder="t('points.its-own-address')" /></el-form-item>
      <el-form-item v-if="!typed" :label="t('points.pulse-for-a-bool-optional')" :error="faults.pulse" data-field="pulse"><el-input v-model="form.pulse" name="pulse" :placeholder="t('points.stays-as-written')" :title="t('points.writing-true-sets-it-for-so')" /></el-form-item>
    </div>
    <div v-if="selectable" class="form-row">
      <el-form-item v-if="output" :label="t('points.commanded-by')" :error="faults.control" data-field="control">
        <el-select v-model="form.control" clearable :placeholder="t('points.latch-on-and-off')" data-test="control">
          <el-option value="pulse" :label="t('points.pulse-on-for-a-time')" />
          <el-option value="trip-close" :label="t('points.trip-and-close')" />
        </el-select>
      </el-form-item>
      <el-form-item :label="t('points.how')" :error="faults.select" data-field="select"><el-checkbox v-model="form.direct">{{ t('points.directly-without-a-select-before') }}</el-checkbox></el-form-item>
    </div>
    <div v-if="pulsed" class="form-row">
      <el-form-item :label="t('points.on-for')" :error="faults.pulse" data-field="pulse"><el-input v-model="form.pulse" placeholder="500ms" /></el-form-item>
      <el-form-item :label="t('points.off-for')" :error="faults.pulse_off" data-field="pulse_off"><el-input v-model="form.pulse_off" placeholder="0s" /></el-form-item>
      <el-form-item :label="t('points.times')" :error="faults.pulse_count" data-field="pulse_count"><el-input-number v-model="form.pulse_count" :min="1" :max="255" :controls="false" placeholder="1" /></el-form-item>
    </div>
    <RecordField v-model="form.record" :fault="faults.record" />
    <LimitsField v-if="form.type !== 'string' && form.type !== 'bits' && kind !== 'os'" v-model="form.limits" :fault="faults.limits" :bool="form.type === 'bool' || ['co', 'di', 'bi', 'bo'].includes(kind)" :names="stateNames" :unit="form.unit" />
    <div class="form-actions">
      <el-button type="primary" native-type="submit" :loading="busy" data-test="save">{{ t('points.save') }}</el-button>
      <span v-if="point">
        <router-link :to="{ path: '/live', query: { point: point.tag } }"><el-button>{{ t('points.watch-it') }}</el-button></router-link>
        <el-button type="danger" plain style="margin-left: 10px" @click="remove(t('points.stays'))">{{ t('points.remove') }}</el-button>
      </span>
    </div>
  </el-form>
</template>

<style scoped>
.meaning {
  font-size: 12px;
  line-height: 1.4;
  padding-top: 4px;
  color: var(--el-color-primary);
}
</style>
