<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, captureURL, message, type Recording, type TrafficFrame } from '../../api/client'
import { useEvery } from '../../composables/useEvery'
import { useMe } from '../../composables/useMe'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import { clock } from '../../time'

const { t } = useI18n()
const who = useMe()

const site = useSite()
void site.loadLinks()
void site.loadStations()

const link = useQuery('link')
const station = useQuery('station')
const fn = useQuery('function')
const only = useQuery('only')
const held = ref(false)
const problem = ref('')
const frames = ref<TrafficFrame[]>([])
const chosen = ref<TrafficFrame>()
const recording = ref<Recording>()
const keep = 400
const functions = computed(() => site.protocol(site.links.find((l) => l.name === link.value)?.protocol)?.functions ?? [])
let last = 0

const query = computed(() => ({ link: link.value, station: station.value, function: fn.value, wrong: only.value === 'wrong' || undefined }))
watch(query, () => {
  last = 0
  frames.value = []
  void load()
})

async function load() {
  if (held.value) return
  try {
    const t = await api.traffic({ ...query.value, after: last || undefined, limit: keep, fields: true })
    last = t.last
    if (t.frames.length > 0) frames.value = [...t.frames.reverse(), ...frames.value].slice(0, keep)
    recording.value = await api.recording()
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
useEvery(700, load)

async function record() {
  try {
    recording.value = recording.value?.running ? await api.stopRecording() : await api.record(link.value, 100)
  } catch (error) {
    problem.value = message(error)
  }
}
const arrow = (f: TrafficFrame) => (f.kind === 'request' ? '→' : f.kind === 'answer' || f.kind === 'report' ? '←' : `✕ ${f.kind}`)
const odd = (f: TrafficFrame) => (f.kind !== 'request' && f.kind !== 'answer' && f.kind !== 'report') || Boolean(f.problem)
/** The bytes of a field. */
const part = (f: TrafficFrame, at: number, bytes: number) => f.bytes.split(' ').slice(at, at + bytes).join(' ')
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('traffic.traffic') }}</h1>
      <el-select v-model="link" clearable :placeholder="t('traffic.all-links')" style="width: 120px" :aria-label="t('traffic.link')"><el-option v-for="l in site.links" :key="l.name" :value="l.name" :label="l.name" /></el-select>
      <el-select v-model="station" clearable filterable :placeholder="t('traffic.all-stations')" style="width: 130px" :aria-label="t('traffic.station')"><el-option v-for="s in site.stations" :key="s.name" :value="s.name" :label="s.name" /></el-select>
      <el-select v-model="fn" clearable :placeholder="t('traffic.all-functions')" style="width: 140px" :aria-label="t('traffic.function')" :disabled="!link"><el-option v-for="f in functions" :key="f.code" :value="String(f.code)" :label="`${f.code} ${f.name}`" /></el-select>
      <el-checkbox :model-value="only === 'wrong'" data-test="wrong" @change="(on: unknown) => (only = on ? 'wrong' : '')">{{ t('traffic.only-what-is-wrong') }}</el-checkbox>
      <span class="grow" />
      <el-button @click="held = !held">{{ t(held ? 'common.go-on' : 'common.hold') }}</el-button>
      <a :href="captureURL(query)" download><el-button>{{ t('traffic.save-capture') }}</el-button></a>
      <el-button v-if="who.may('engineer')" :type="recording?.running ? 'warning' : ''" data-test="record" @click="record">{{ t(recording?.running ? 'traffic.stop-recording' : 'traffic.record') }}</el-button>
    </div>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <div v-if="recording?.file" class="quiet">{{ t(recording.running ? 'traffic.recording' : 'traffic.recorded') }} <span class="mono">{{ recording.file }}</span>: {{ t('traffic.so-much', { frames: recording.frames, bytes: recording.bytes }) }} {{ recording.ended ? `(${recording.ended})` : '' }} <a href="/api/v1/traffic/recording/file" download>{{ t('traffic.download') }}</a></div>
    <div class="columns fill">
      <div class="panel fill list" data-test="frames">
        <div v-for="f in frames" :key="f.seq" class="frame" role="button" tabindex="0" :class="{ odd: odd(f), chosen: chosen?.seq === f.seq }" @click="chosen = f" @keydown.enter="chosen = f">
          <span class="number quiet">{{ clock(f.time) }}</span>
          <span class="who">{{ f.station || f.link }}</span>
          <span class="arrow">{{ arrow(f) }}</span>
          <span class="what">{{ f.summary }}<span v-if="f.problem && f.problem !== f.summary"> · {{ f.problem }}</span></span>
          <span class="number quiet">{{ f.after_ms ? `${f.after_ms.toFixed(1)} ms` : '' }}</span>
        </div>
        <el-empty v-if="frames.length === 0" :description="t('traffic.no-frame-yet')" />
      </div>
      <aside v-if="chosen" class="panel side">
        <b>{{ chosen.summary }}</b>
        <div class="quiet">{{ chosen.link }} {{ chosen.station }} · {{ clock(chosen.time) }} · {{ chosen.kind }}</div>
        <div v-if="chosen.problem" class="problem">{{ chosen.problem }}</div>
        <div class="mono bytes">{{ chosen.bytes }}</div>
        <table v-if="chosen.fields">
          <tbody>
            <tr v-for="(field, i) in chosen.fields" :key="i">
              <td class="quiet">{{ field.name }}</td>
              <td class="mono quiet octets">{{ part(chosen, field.at, field.bytes) }}</td>
              <td>{{ field.value }} <router-link v-for="tag in field.tags" :key="tag" class="tag" :to="{ path: '/live', query: { point: tag } }">{{ tag }}</router-link></td>
            </tr>
          </tbody>
        </table>
      </aside>
    </div>
  </div>
</template>

<style scoped>
.tag {
  display: inline-block;
  margin-left: 6px;
  color: var(--el-color-primary);
}
.list {
  overflow: auto;
}
.frame {
  display: flex;
  gap: 10px;
  padding: 3px 12px;
  border-bottom: 1px solid var(--el-border-color-extra-light);
  cursor: pointer;
  white-space: nowrap;
}
.frame.odd .arrow,
.frame.odd .what {
  color: var(--bad);
}
.frame.chosen {
  background: var(--el-color-primary-light-9);
}
.who {
  width: 120px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.arrow {
  min-width: 20px;
}
.what {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
}
.octets {
  min-width: 88px;
}
.problem {
  color: var(--bad);
}
.bytes {
  margin: 8px 0;
  overflow-wrap: anywhere;
}
td {
  padding: 2px 10px 2px 0;
  vertical-align: top;
}
a {
  color: var(--el-color-primary);
}
</style>
