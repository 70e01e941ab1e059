<script setup lang="ts">
import { computed, reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, type Link } from '../../api/client'
import FindingList from '../../components/FindingList.vue'
import ScanLink from './ScanLink.vue'
import CopyEntity from '../../components/CopyEntity.vue'
import TestButton from '../../components/TestButton.vue'
import ConflictDialog from '../../components/ConflictDialog.vue'
import { useForm, whenKnown } from '../../composables/useForm'
import { useSite } from '../../composables/useSite'

const { t } = useI18n()

const props = defineProps<{ link?: Link }>()
const emit = defineEmits<{ saved: [name: string] }>()
const site = useSite()

const l = props.link
const form = reactive({
  name: l?.name ?? '',
  description: l?.description ?? '',
  protocol: (l?.protocol ?? 'modbus') as string,
  listen: l?.listen ?? '',
  transport: (l?.transport ?? 'tcp') as string,
  framing: (l?.framing ?? '') as string,
  host: l?.host ?? '',
  port: l?.port,
  bind: l?.bind ?? '',
  timeout: l?.timeout ?? '1s',
  retries: l?.retries ?? 2,
  retry_delay: l?.retry_delay ?? '',
  pause: l?.pause ?? '0s',
  connections: l?.connections ?? 1,
  in_flight: l?.in_flight ?? 1,
  enabled: l?.enabled ?? true,
})
const line = reactive({ device: '', baud: 9600, data_bits: 8, parity: 'even', stop_bits: 1, rts: 'off', rts_before: '0s', rts_after: '0s', echo: false, ...l?.serial })
const modem = reactive({ init: '', dial: '', connect: '', idle: '', redial: '', guard: '', ...l?.modem })
const tls = reactive({ ca: '', server_name: '', certificate: '', key: '', ...l?.tls })

const original = computed(() => l?.name ?? '')
const { faults, general, busy, begin, save, remove, conflicting, resolve } = useForm('link', original, (name) => emit('saved', name), l)
const fields = ['name', 'protocol', 'listen', 'transport', 'framing', 'host', 'port', 'timeout', 'retries', 'pause', 'description', 'bind', 'serial', 'tls', 'modem', 'connections', 'in_flight', 'retry_delay']

const protocol = computed(() => site.protocol(form.protocol))
/** Whether a field means something with the protocol. */
const has = (field: string) => protocol.value?.link_fields.includes(field) ?? false
const listens = computed(() => has('listen') && form.transport === 'tcp')
const incoming = ref(Boolean(l?.listen))
const calls = computed(() => !serial.value && !(listens.value && incoming.value))
const serial = computed(() => form.transport === 'serial' || form.transport === 'dialup')
const framings = computed(() => (protocol.value?.framings ?? []).filter((f) => !serial.value || f !== 'mbap'))
const usualPort = computed(() => String((form.transport === 'tls' ? protocol.value?.tls_port : protocol.value?.port) ?? ''))
const every: Link['transport'][] = ['tcp', 'tls', 'udp', 'serial', 'dialup']
const transports = computed(() => every.filter((value) => protocol.value?.transports.includes(value)).map((value) => ({ value, label: t(`links.transports.${value}`) })))

const ports = ref<string[]>([])
void api.ports().then((p) => (ports.value = p.ports))

/** What only followed from the transport or protocol before follows the new one. */
function moved() {
  if (!transports.value.some((t) => t.value === form.transport)) form.transport = 'tcp'
  form.framing = ''
  form.port = undefined
}

/** What is saved. */
function payload() {
  const network = calls.value
  const said = Object.fromEntries(Object.entries(modem).filter(([, value]) => value))
  return {
    ...form,
    framing: has('framing') ? form.framing || null : null,
    listen: listens.value && incoming.value ? form.listen : null,
    host: network ? form.host : null,
    port: network ? (form.port ?? null) : null,
    bind: network ? form.bind : null,
    serial: serial.value ? { ...line } : null,
    tls: form.transport === 'tls' ? { ...tls } : null,
    modem: form.transport === 'dialup' ? said : null,
    connections: network && has('connections') ? form.connections : null,
    in_flight: network && has('in_flight') ? form.in_flight : null,
    retry_delay: form.retry_delay || null,
  }
}
whenKnown(protocol, () => begin(payload()))
const submit = () => save(payload(), form.name, fields)
</script>

<template>
  <el-form label-position="top" @submit.prevent="submit">
    <ConflictDialog :conflicts="conflicting" :name="original" @choose="resolve" />
    <el-alert v-if="general" :title="general" type="error" :closable="false" show-icon />
    <el-form-item :label="t('links.name')" :error="faults.name" data-field="name"><el-input v-model="form.name" name="name" autofocus /></el-form-item>
    <el-form-item :label="t('links.description')" :error="faults.description" data-field="description"><el-input v-model="form.description" name="description" /></el-form-item>
    <el-form-item :label="t('links.protocol')" :error="faults.protocol" data-field="protocol">
      <el-radio-group v-model="form.protocol" data-test="protocol" @change="moved"><el-radio-button v-for="p in site.protocols" :key="p.protocol" :value="p.protocol" :label="p.title" /></el-radio-group>
    </el-form-item>
    <div class="form-row">
      <el-form-item :label="t('links.transport')" :error="faults.transport" data-field="transport" class="wide">
        <el-select v-model="form.transport" data-test="transport" @change="moved"><el-option v-for="choice in transports" :key="choice.value" v-bind="choice" /></el-select>
      </el-form-item>
      <el-form-item v-if="framings.length" :label="t('links.framing')" :error="faults.framing" data-field="framing">
        <el-select v-model="form.framing" data-test="framing" clearable :placeholder="framings[0]"><el-option v-for="f in framings" :key="f" :value="f" :label="f" /></el-select>
      </el-form-item>
    </div>
    <template v-if="serial">
      <el-form-item :label="t('links.port')" :error="faults.serial" data-field="serial">
        <el-select v-model="line.device" filterable allow-create default-first-option placeholder="/dev/ttyUSB0" data-test="device"><el-option v-for="p in ports" :key="p" :value="p" :label="p" /></el-select>
      </el-form-item>
      <div class="form-row">
        <el-form-item :label="t('links.baud')">
          <el-select v-model="line.baud" filterable allow-create><el-option v-for="b in [1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200]" :key="b" :value="b" :label="String(b)" /></el-select>
        </el-form-item>
        <el-form-item :label="t('links.parity')">
          <el-select v-model="line.parity"><el-option v-for="p in ['none', 'even', 'odd']" :key="p" :value="p" :label="p" /></el-select>
        </el-form-item>
        <el-form-item :label="t('links.data-bits')">
          <el-select v-model="line.data_bits"><el-option v-for="n in [8, 7]" :key="n" :value="n" :label="String(n)" /></el-select>
        </el-form-item>
        <el-form-item :label="t('links.stop-bits')">
          <el-select v-model="line.stop_bits"><el-option v-for="n in [1, 2]" :key="n" :value="n" :label="String(n)" /></el-select>
        </el-form-item>
      </div>
      <div class="form-row">
        <el-form-item :label="t('links.rts')">
          <el-select v-model="line.rts">
            <el-option value="off" :label="t('links.off')" />
            <el-option value="on" :label="t('links.on')" />
            <el-option value="toggle" :label="t('links.on-while-sending')" />
          </el-select>
        </el-form-item>
        <el-form-item v-if="line.rts === 'toggle'" :label="t('links.before')"><el-input v-model="line.rts_before" /></el-form-item>
        <el-form-item v-if="line.rts === 'toggle'" :label="t('links.after')"><el-input v-model="line.rts_after" /></el-form-item>
        <el-form-item :label="t('links.adapter')"><el-checkbox v-model="line.echo">{{ t('links.gives-back-what-it-sends') }}</el-checkbox></el-form-item>
      </div>
      <template v-if="form.transport === 'dialup'">
        <div class="form-row">
          <el-form-item :label="t('links.commands-to-begin-with')" :error="faults.modem" data-field="modem" class="wide"><el-input v-model="modem.init" name="modem-init" class="mono" placeholder="ATZ;ATE0Q0V1" /></el-form-item>
          <el-form-item :label="t('links.to-dial')"><el-input v-model="modem.dial" class="mono" placeholder="ATDT" /></el-form-item>
        </div>
        <div class="form-row">
          <el-form-item :label="t('links.time-to-connect')"><el-input v-model="modem.connect" placeholder="60s" /></el-form-item>
          <el-form-item :label="t('links.hang-up-after-quiet')"><el-input v-model="modem.idle" placeholder="10s" /></el-form-item>
          <el-form-item :label="t('links.before-redialling')"><el-input v-model="modem.redial" placeholder="30s" /></el-form-item>
        </div>
        <div class="quiet note">{{ t('links.the-telephone-number-is-a-station') }}</div>
      </template>
    </template>
    <template v-else>
      <el-form-item v-if="listens"><el-checkbox v-model="incoming" data-test="incoming">{{ t('links.stations-call-in-wait-for-them') }}</el-checkbox></el-form-item>
      <el-form-item v-if="!calls" :label="t('links.wait-at-host-port')" :error="faults.listen" data-field="listen"><el-input v-model="form.listen" name="listen" class="mono" placeholder="0.0.0.0:20000" /></el-form-item>
      <div v-if="calls" class="form-row">
        <el-form-item :label="t('links.host-name-or-ip-address')" :error="faults.host" data-field="host" class="wide"><el-input v-model="form.host" name="host" class="mono" /></el-form-item>
        <el-form-item :label="t('links.port')" :error="faults.port" data-field="port"><el-input-number v-model="form.port" :controls="false" name="port" :placeholder="usualPort" /></el-form-item>
      </div>
      <el-form-item v-if="calls" :label="t('links.local-ip-address-or-interface-to')" :error="faults.bind" data-field="bind"><el-input v-model="form.bind" name="bind" class="mono" :placeholder="t('links.as-the-machine-s-routes-say')" /></el-form-item>
      <div v-if="has('connections')" class="form-row">
        <el-form-item :label="t('links.connections')" :error="faults.connections" data-field="connections"><el-input-number v-model="form.connections" :min="1" :max="16" name="connections" :title="t('links.sockets-that-share-the-work')" /></el-form-item>
        <el-form-item :label="t('links.requests-in-flight-on-each')" :error="faults.in_flight" data-field="in_flight"><el-input-number v-model="form.in_flight" :min="1" :max="16" name="in_flight" :title="t('links.outstanding-requests-told-apart-by-their')" /></el-form-item>
      </div>
    </template>
    <template v-if="form.transport === 'tls'">
      <el-form-item :label="t('links.certificates-to-verify-the-server-with')" :error="faults.tls" data-field="tls"><el-input v-model="tls.ca" name="ca" :placeholder="t('links.the-machine-s-own')" class="mono" /></el-form-item>
      <div class="form-row">
        <el-form-item :label="t('links.client-certificate-optional')"><el-input v-model="tls.certificate" class="mono" /></el-form-item>
        <el-form-item :label="t('links.its-key')"><el-input v-model="tls.key" class="mono" /></el-form-item>
      </div>
      <el-form-item :label="t('links.name-in-the-server-s-certificate')"><el-input v-model="tls.server_name" :placeholder="t('links.the-host')" class="mono" /></el-form-item>
    </template>
    <div class="form-row">
      <el-form-item :label="t('links.timeout')" :error="faults.timeout" data-field="timeout"><el-input v-model="form.timeout" name="timeout" placeholder="1s" /></el-form-item>
      <el-form-item :label="t('links.retries')" :error="faults.retries" data-field="retries"><el-input-number v-model="form.retries" :min="0" :max="10" name="retries" /></el-form-item>
      <el-form-item :label="t('links.before-a-retry')" :error="faults.retry_delay" data-field="retry_delay"><el-input v-model="form.retry_delay" name="retry_delay" placeholder="0s" /></el-form-item>
      <el-form-item :label="t('links.pause')" :error="faults.pause" data-field="pause"><el-input v-model="form.pause" name="pause" placeholder="0s" :title="t('links.least-quiet-time-between-exchanges')" /></el-form-item>
    </div>
    <el-form-item><el-switch v-model="form.enabled" :aria-label="t('links.enabled')" :active-text="t('links.enabled')" :inactive-text="t('links.disabled')" /></el-form-item>
    <FindingList v-if="link" :subject="link.name" />
    <TestButton v-if="link" kind="link" :name="link.name" />
    <ScanLink v-if="link && link.transport !== 'dialup' && !link.listen" :link="link" @added="emit('saved', link.name)" />
    <CopyEntity v-if="link" kind="link" :name="link.name" @copied="(name) => emit('saved', name)" />
    <div class="form-actions">
      <el-button type="primary" native-type="submit" :loading="busy" data-test="save">{{ t('links.save') }}</el-button>
      <el-button v-if="link" type="danger" plain @click="remove(t('links.goes-too'), true)">{{ t('links.remove') }}</el-button>
    </div>
  </el-form>
</template>

<style scoped>
.note {
  margin: -6px 0 12px;
}
</style>
