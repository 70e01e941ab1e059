<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, onScopeDispose, reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, follow, message, type Link, type Progress } from '../../api/client'
import { useAsked } from '../../composables/useAsked'
import { useSite } from '../../composables/useSite'

const { t } = useI18n()

// Looks for units on the link, and for the settings of a serial line; what is found becomes a station in one step.
const props = defineProps<{ link: Link }>()
const emit = defineEmits<{ added: [] }>()

type Found = NonNullable<Progress['found']>
const open = ref(false)
const site = useSite()
const protocol = computed(() => site.protocol(props.link.protocol))
const called = computed(() => protocol.value?.address ?? 'unit')
const form = reactive({ first: 1, last: protocol.value?.last_usual ?? 247, wait: '200ms', settings: false })
const step = ref<Progress>()
const found = ref<Found[]>([])
const settings = ref<Progress>()
const problem = ref('')
const busy = ref(false)
const onPort = computed(() => props.link.transport === 'serial')
const share = computed(() => (step.value && step.value.total > 0 ? Math.min(100, Math.round((100 * step.value.done) / step.value.total)) : 0))
let stop = new AbortController()
onScopeDispose(() => stop.abort())
useAsked({
  scan: () => (open.value = true),
  settings: () => {
    open.value = true
    form.settings = true
  },
})

async function scan() {
  stop = new AbortController()
  found.value = []
  settings.value = undefined
  problem.value = ''
  busy.value = true
  try {
    await follow<Progress>(
      '/api/v1/scan',
      { link: props.link.name, first: form.first, last: form.last, wait: form.wait, settings: form.settings },
      (p) => {
        step.value = p
        if (p.found) found.value.push(p.found)
        if (p.settings) settings.value = p
        if (p.ended?.startsWith('failed')) problem.value = p.ended.replace(/^failed: /, '')
      },
      stop.signal,
    )
  } catch (error) {
    if (!stop.signal.aborted) problem.value = message(error)
  }
  busy.value = false
}

async function add(f: Found) {
  try {
    await api.add('station', { name: `${props.link.name}-${f.unit}`, link: props.link.name, [called.value]: f.unit })
    ElMessage.success(t('links.added', { name: `${props.link.name}-${f.unit}` }))
  } catch (error) {
    problem.value = message(error)
  }
}
async function use() {
  try {
    await api.set('link', props.link.name, { serial: settings.value?.settings })
    emit('added')
  } catch (error) {
    problem.value = message(error)
  }
}
</script>

<template>
  <div class="scan">
    <el-button v-if="!open" data-test="scan" @click="open = true">{{ t('links.look-for', { what: called }) }}</el-button>
    <template v-else>
      <div class="form-row">
        <el-form-item :label="t('links.from', { what: called })"><el-input-number v-model="form.first" :min="0" :max="protocol?.max_address" :controls="false" name="scan-first" /></el-form-item>
        <el-form-item :label="t('links.to')"><el-input-number v-model="form.last" :min="0" :max="protocol?.max_address" :controls="false" name="scan-last" /></el-form-item>
        <el-form-item :label="t('links.wait-for-each')"><el-input v-model="form.wait" name="scan-wait" /></el-form-item>
      </div>
      <el-checkbox v-if="onPort" v-model="form.settings">{{ t('links.look-for-baud-parity-and-stop') }}</el-checkbox>
      <div class="form-row">
        <el-button v-if="!busy" type="primary" plain data-test="scan-start" :title="t('links.its-polls-pause-meanwhile')" @click="scan">{{ t('links.look') }}</el-button>
        <el-button v-else @click="stop.abort()">{{ t('links.stop') }}</el-button>
      </div>
      <el-progress v-if="busy" :percentage="share" />
      <div v-if="busy && step?.now" class="quiet">{{ step.now }}</div>
      <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
      <div v-if="settings" data-test="scan-settings">{{ settings.now }} <el-button size="small" type="primary" plain @click="use">{{ t('links.use-these-settings') }}</el-button></div>
      <ul data-test="scan-found">
        <li v-for="(f, i) in found" :key="i">
          <b>{{ called }} {{ f.unit }}</b> {{ f.text }}
          <el-button size="small" @click="add(f)">{{ t('links.make-a-station-of-it') }}</el-button>
        </li>
      </ul>
      <div v-if="step?.ended && !problem" class="quiet">{{ step.ended }}</div>
    </template>
  </div>
</template>

<style scoped>
.scan {
  margin: 10px 0;
}
ul {
  margin: 6px 0;
  padding-left: 18px;
  line-height: 1.9;
}
</style>
