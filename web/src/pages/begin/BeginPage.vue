<script setup lang="ts">
import { computed, onScopeDispose, reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'

import { api, follow, message, type Link, type Progress, type Stage } from '../../api/client'
import { useService } from '../../composables/useService'
import { useSite } from '../../composables/useSite'
import ApplyFile from '../overview/ApplyFile.vue'
import { meanings, nameOf, type Meaning, type Register } from './values'

// From nothing to the first live value: what there is, where it is, which units answer, what they say, and which value is the right one.
const { t } = useI18n()
const router = useRouter()
const site = useSite()
const service = useService()
void site.loadLinks()

type Means = 'network' | 'serial' | 'modem' | 'simulated' | 'file'
const means: Means[] = ['network', 'serial', 'modem', 'simulated', 'file']
const have = ref<Means>()

const far = reactive({ protocol: 'modbus', host: '', port: undefined as number | undefined, device: '', baud: 9600, parity: 'even', stop_bits: 1, number: '' })
const protocol = computed(() => site.protocol(far.protocol))
const ports = ref<string[]>([])
const lines = ref<{ name: string; protocol: string; transport: string; listen: string }[]>([])

async function choose(m: Means) {
  have.value = m
  forget()
  if (m === 'serial' || m === 'modem') ports.value = (await api.ports()).ports
  if (m === 'simulated' && service.simulated) lines.value = (await api.rig()).lines
}

/** The far end as the service takes it. */
function at(): Partial<Link> {
  if (have.value === 'serial') return { protocol: far.protocol as Link['protocol'], transport: 'serial', serial: { device: far.device, baud: far.baud, parity: far.parity as 'even', stop_bits: far.stop_bits } }
  if (have.value === 'modem') return { protocol: 'modbus', transport: 'dialup', serial: { device: far.device, baud: far.baud, parity: 'none' } }
  return { protocol: far.protocol as Link['protocol'], transport: 'tcp', host: far.host.trim(), port: far.port }
}
const ready = computed(() => (have.value === 'network' ? far.host.trim() !== '' : far.device !== ''))

const problem = ref('')
const busy = ref('')
const progress = ref<Progress>()
const units = ref<{ unit: number; text: string }[]>([])
const looked = ref(false)
const unit = ref<number>()
const stages = ref<Stage[]>([])
const registers = ref<{ table: string; list: Register[]; why?: string }[]>([])
const held = computed(() => stages.value.find((s) => s.points)?.points ?? [])
const picked = ref<Meaning>()
const range = ref('')
const named = reactive({ tag: '', unit: '' })
let stop = new AbortController()
onScopeDispose(() => stop.abort())

function forget() {
  stop.abort()
  problem.value = busy.value = ''
  units.value = []
  looked.value = false
  forgetUnit()
}
function forgetUnit() {
  unit.value = undefined
  stages.value = []
  registers.value = []
  picked.value = undefined
}

/** Does something that can be stopped, and says what went wrong. */
async function doing(what: string, f: () => Promise<void>) {
  stop = new AbortController()
  busy.value = what
  problem.value = ''
  try {
    await f()
  } catch (error) {
    if (!stop.signal.aborted) problem.value = message(error)
  }
  busy.value = ''
}

const look = (settings: boolean) =>
  doing('look', async () => {
    forgetUnit()
    units.value = []
    await follow<Progress>(
      '/api/v1/scan',
      { at: at(), settings, wait: '200ms' },
      (p) => {
        progress.value = p
        if (p.found) units.value.push(p.found)
        if (p.settings) {
          far.baud = p.settings.baud ?? far.baud
          far.parity = p.settings.parity ?? far.parity
          far.stop_bits = p.settings.stop_bits ?? far.stop_bits
        }
        if (p.ended?.startsWith('failed')) problem.value = p.ended.replace(/^failed: /, '')
      },
      stop.signal,
    )
    looked.value = true
  })

/** How long the service needs to give a line back whose scan was stopped. */
const release = 800

async function take(u: number) {
  const looking = busy.value === 'look'
  stop.abort()
  forgetUnit()
  unit.value = u
  if (looking) await new Promise((resolve) => setTimeout(resolve, release))
  await doing('probe', async () => {
    await follow<Stage>('/api/v1/probe', { at: at(), unit: u }, (s) => stages.value.push(s), stop.signal)
  })
  if (!protocol.value?.typed) {
    await read('hr:0..9')
    await read('ir:0..9')
  }
}

const read = (what: string) =>
  doing('read', async () => {
    try {
      const list = await api.readAt({ at: at(), unit: unit.value, range: what })
      const table = { table: what, list: list.map((r) => ({ address: r.address, word: r.raw?.words?.[0] === undefined ? undefined : Number(r.raw.words[0]) })) }
      registers.value = [...registers.value.filter((r) => r.table !== what), table]
    } catch (error) {
      registers.value = [...registers.value.filter((r) => r.table !== what), { table: what, list: [], why: message(error) }]
    }
  })

function pick(m: Meaning) {
  picked.value = m
  named.tag ||= `${nameOf(far.host || far.device.split('/').pop() || 'device')}/value`
}

const save = () =>
  doing('save', async () => {
    const m = picked.value
    if (!m) return
    const base = nameOf(far.host || far.device.split('/').pop() || 'device')
    const taken = new Set(site.links.map((l) => l.name))
    let name = base
    for (let n = 2; taken.has(name); n++) name = `${base}-${n}`
    const station = `${name}-${unit.value}`
    const typed = protocol.value?.typed
    const file = {
      arithmon: 1,
      links: [{ ...at(), name }],
      stations: [{ name: station, link: name, [protocol.value?.address ?? 'unit']: unit.value, ...(have.value === 'modem' ? { number: far.number } : {}) }],
      points: [{ tag: named.tag, station, address: m.address, type: m.type, ...(typed ? {} : { order: m.order }), unit: named.unit || undefined }],
    }
    await api.apply(JSON.stringify(file), 'first value', false)
    await router.push({ path: '/live', query: { point: named.tag } })
  })
</script>

<template>
  <div class="page begin">
    <div class="page-bar">
      <h1>{{ t('pages.begin') }}</h1>
      <span class="quiet">{{ t('begin.about') }}</span>
    </div>

    <section class="panel step">
      <h2>1. {{ t('begin.have') }}</h2>
      <div class="choices" role="radiogroup" :aria-label="t('begin.have')">
        <button v-for="m in means" :key="m" type="button" role="radio" :aria-checked="have === m" :class="{ chosen: have === m }" :data-test="`have-${m}`" @click="choose(m)">
          <b>{{ t(`begin.${m}.name`) }}</b><span class="quiet">{{ t(`begin.${m}.about`) }}</span>
        </button>
      </div>
    </section>

    <section v-if="have === 'file'" class="panel step">
      <h2>2. {{ t('begin.file.step') }}</h2>
      <ApplyFile />
    </section>

    <section v-else-if="have === 'simulated'" class="panel step">
      <h2>2. {{ t('begin.simulated.step') }}</h2>
      <p v-if="!service.simulated" class="quiet">{{ t('begin.simulated.none') }} <code>arithmon demo</code></p>
      <div v-else class="choices">
        <template v-for="l in lines" :key="l.name">
          <button v-if="l.transport === 'tcp'" type="button" @click="((far.protocol = l.protocol), (far.host = l.listen.split(':')[0] ?? ''), (far.port = Number(l.listen.split(':')[1])), (have = 'network'))"><b>{{ l.name }}</b><span class="quiet">{{ l.listen }}</span></button>
          <button v-else-if="l.transport === 'serial'" type="button" @click="((far.protocol = l.protocol), (far.device = l.listen), (have = 'serial'))"><b>{{ l.name }}</b><span class="quiet">{{ l.listen }}</span></button>
        </template>
      </div>
    </section>

    <section v-else-if="have" class="panel step">
      <h2>2. {{ t('begin.where') }}</h2>
      <el-form label-position="top" @submit.prevent="look(false)">
        <div class="form-row">
          <el-form-item v-if="have !== 'modem'" :label="t('begin.protocol')">
            <el-radio-group v-model="far.protocol" data-test="begin-protocol" @change="forget"><el-radio-button v-for="p in site.protocols" :key="p.protocol" :value="p.protocol">{{ p.title }}</el-radio-button></el-radio-group>
          </el-form-item>
          <template v-if="have === 'network'">
            <el-form-item :label="t('begin.host')" class="wide"><el-input v-model="far.host" name="begin-host" placeholder="192.0.2.7" /></el-form-item>
            <el-form-item :label="t('begin.port', { n: protocol?.port ?? '' })"><el-input-number v-model="far.port" :min="1" :max="65535" :controls="false" name="begin-port" :placeholder="String(protocol?.port ?? '')" :aria-label="t('begin.port', { n: protocol?.port ?? '' })" /></el-form-item>
          </template>
          <template v-else>
            <el-form-item :label="t('begin.device')" class="wide"><el-select v-model="far.device" filterable allow-create default-first-option placeholder="/dev/ttyUSB0" data-test="begin-device" :aria-label="t('begin.device')"><el-option v-for="p in ports" :key="p" :value="p" :label="p" /></el-select></el-form-item>
            <el-form-item :label="t('begin.baud')"><el-select v-model="far.baud" :aria-label="t('begin.baud')"><el-option v-for="b in [1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200]" :key="b" :value="b" :label="String(b)" /></el-select></el-form-item>
            <el-form-item v-if="have === 'serial'" :label="t('begin.parity')"><el-select v-model="far.parity" :aria-label="t('begin.parity')"><el-option v-for="p in ['even', 'none', 'odd']" :key="p" :value="p" :label="p" /></el-select></el-form-item>
            <el-form-item v-if="have === 'modem'" :label="t('begin.number')"><el-input v-model="far.number" name="begin-number" /></el-form-item>
          </template>
        </div>
        <p class="quiet hint">{{ t(`begin.${have}.hint`) }}</p>
        <div class="form-row buttons">
          <el-button v-if="have !== 'modem'" type="primary" native-type="submit" :disabled="!ready" :loading="busy === 'look'" data-test="begin-look">{{ t('begin.look') }}</el-button>
          <el-button v-if="have === 'serial'" :disabled="!ready || busy !== ''" @click="look(true)">{{ t('begin.settings') }}</el-button>
          <el-button v-if="busy === 'look'" data-test="begin-stop" @click="stop.abort()">{{ t('begin.stop') }}</el-button>
        </div>
      </el-form>
      <p v-if="busy === 'look' && progress" class="quiet">{{ progress.done }} / {{ progress.total }} {{ progress.now }}</p>
    </section>

    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon data-test="begin-problem" />

    <section v-if="units.length > 0 || looked || (have === 'modem' && ready)" class="panel step">
      <h2>3. {{ t('begin.which', { what: protocol?.address ?? 'unit' }) }}</h2>
      <p v-if="looked && units.length === 0" class="quiet">{{ t('begin.nobody') }}</p>
      <div class="choices">
        <button v-for="u in units" :key="u.unit" type="button" :class="{ chosen: unit === u.unit }" :data-test="`begin-unit-${u.unit}`" @click="take(u.unit)"><b>{{ protocol?.address }} {{ u.unit }}</b><span class="quiet">{{ u.text }}</span></button>
      </div>
      <div class="other">
        <label for="begin-other">{{ t('begin.other') }}</label>
        <el-input-number id="begin-other" :model-value="unit" :min="0" :max="protocol?.max_address" :controls="false" name="begin-unit" @change="(v?: number | null) => v != null && take(v)" />
      </div>
    </section>

    <section v-if="stages.length > 0" class="panel step">
      <h2>4. {{ t('begin.says') }}</h2>
      <ol class="stages" data-test="begin-stages">
        <li v-for="s in stages" :key="s.name" :class="s.ok ? 'good' : 'bad'"><b>{{ s.ok ? '●' : '✕' }} {{ s.name }}</b> <span>{{ s.text }}</span></li>
      </ol>
    </section>

    <section v-if="registers.length > 0 || held.length > 0" class="panel step">
      <h2>5. {{ t('begin.right') }}</h2>
      <p class="quiet hint">{{ t('begin.right-about') }}</p>
      <div v-if="!protocol?.typed" class="other">
        <label for="begin-range">{{ t('begin.range') }}</label>
        <el-input id="begin-range" v-model="range" class="mono" name="begin-range" placeholder="hr:100..109" style="width: 190px" @keydown.enter="read(range)" />
        <el-button :disabled="!range" :loading="busy === 'read'" data-test="begin-read" @click="read(range)">{{ t('begin.read') }}</el-button>
      </div>
      <div class="tables">
        <div v-for="r in registers" :key="r.table">
          <h3>{{ r.table }}</h3>
          <p v-if="r.why" class="quiet">{{ r.why }}</p>
          <table v-else>
            <tbody>
              <tr v-for="(w, i) in r.list" :key="w.address">
                <th scope="row" class="mono">{{ w.address }}</th>
                <td>
                  <button v-for="m in meanings(r.list, i)" :key="m.type + m.order" type="button" class="value" :class="{ chosen: picked?.address === m.address && picked?.type === m.type && picked?.order === m.order }" :data-test="`value-${m.address}-${m.type}-${m.order}`" @click="pick(m)">
                    <b class="number">{{ m.text }}</b> <span class="quiet">{{ m.type }}{{ m.type.endsWith('16') ? '' : ` ${m.order}` }}</span>
                  </button>
                  <span v-if="w.word === undefined" class="quiet">–</span>
                </td>
              </tr>
            </tbody>
          </table>
        </div>
        <table v-if="held.length > 0">
          <tbody>
            <tr v-for="h in held" :key="h.address">
              <th scope="row" class="mono">{{ h.address }}</th>
              <td><button type="button" class="value" :class="{ chosen: picked?.address === h.address }" :data-test="`value-${h.address}`" @click="pick({ address: h.address, type: h.type, order: '', text: String(h.value) })"><b class="number">{{ h.value }}</b> <span class="quiet">{{ h.variation }}</span></button></td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>

    <section v-if="picked" class="panel step">
      <h2>6. {{ t('begin.name') }}</h2>
      <el-form label-position="top" @submit.prevent="save">
        <div class="form-row">
          <el-form-item :label="t('begin.tag')" class="wide"><el-input v-model="named.tag" name="begin-tag" /></el-form-item>
          <el-form-item :label="t('begin.unit')"><el-input v-model="named.unit" name="begin-eng" placeholder="bar, °C, m³/h" /></el-form-item>
        </div>
        <el-button type="primary" native-type="submit" :loading="busy === 'save'" :disabled="!named.tag" data-test="begin-save">{{ t('begin.save') }}</el-button>
      </el-form>
    </section>
  </div>
</template>

<style scoped>
.begin {
  height: auto;
  max-width: 900px;
}
.step {
  padding: 10px 16px 14px;
}
h2 {
  margin: 4px 0 10px;
  font-size: 15px;
}
h3 {
  margin: 8px 0 4px;
  font-size: 13px;
}
.choices {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.choices button {
  display: flex;
  flex-direction: column;
  gap: 2px;
  min-width: 150px;
  flex: 1 1 150px;
  max-width: 330px;
  padding: 8px 12px;
  text-align: left;
  font: inherit;
  color: inherit;
  background: none;
  border: 1px solid var(--el-border-color);
  border-radius: 8px;
  cursor: pointer;
}
.choices button:hover,
button.value:hover {
  border-color: var(--el-color-primary);
}
.choices button.chosen,
button.value.chosen {
  border-color: var(--el-color-primary);
  box-shadow: inset 0 0 0 1px var(--el-color-primary);
  background: var(--el-color-primary-light-9);
}
.hint {
  margin: 0 0 10px;
}
.buttons > * {
  flex: none;
}
.other {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px;
  margin-top: 10px;
}
.stages {
  list-style: none;
  margin: 0;
  padding: 0;
  line-height: 1.6;
}
.stages .good b {
  color: var(--good);
}
.stages .bad b {
  color: var(--bad);
}
.tables {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 30px;
}
th {
  padding-right: 12px;
  text-align: left;
  font-weight: 400;
}
button.value {
  margin: 2px 6px 2px 0;
  padding: 2px 8px;
  font: inherit;
  font-size: 13px;
  color: inherit;
  background: none;
  border: 1px solid var(--el-border-color-lighter);
  border-radius: 5px;
  cursor: pointer;
}
</style>
