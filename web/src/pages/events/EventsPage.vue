<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type EventRecord } from '../../api/client'
import QualityMark from '../../components/QualityMark.vue'
import { useEvery } from '../../composables/useEvery'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import { length, stamp } from '../../time'

const { t } = useI18n()

const site = useSite()
void site.loadStations()

const station = useQuery('station')
const tag = useQuery('tag')
const held = ref(false)
const problem = ref('')
const events = ref<EventRecord[]>([]) // the newest first
const done = ref(false) // there are no earlier ones
const keep = 2000
const page = 200
let last = 0
let turn = 0

const pattern = computed(() => {
  const text = tag.value.trim()
  return text === '' || text.includes('*') ? text : `*${text}*`
})
const query = computed(() => ({ station: station.value, tag: pattern.value }))
const reporting = computed(() => site.stations.filter((s) => s.outstation !== undefined))
watch(query, () => {
  last = 0
  events.value = []
  done.value = false
  void load()
})

async function load() {
  if (held.value) return
  const mine = ++turn
  try {
    const p = await api.events({ ...query.value, after: last || undefined, limit: last ? 10000 : page })
    if (mine !== turn) return
    if (!last) done.value = p.items.length < page
    last = p.items.at(-1)?.id ?? (last || p.last)
    if (p.items.length > 0) events.value = [...p.items.reverse(), ...events.value].slice(0, keep)
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
useEvery(700, load)

async function earlier() {
  const oldest = events.value.at(-1)
  if (!oldest) return
  try {
    const p = await api.events({ ...query.value, before: oldest.id, limit: page })
    done.value = p.items.length < page
    events.value = [...events.value, ...p.items.reverse()]
    held.value = true
  } catch (error) {
    problem.value = message(error)
  }
}

/** How much later than the device's own time it came. */
function later(e: EventRecord) {
  if (!e.source_time) return ''
  const ms = Date.parse(e.time) - Date.parse(e.source_time)
  return length(ms)
}
/** Time since the event below it, by the devices' clocks. */
function gap(i: number) {
  const [a, b] = [events.value[i]?.source_time, events.value[i + 1]?.source_time]
  if (!a || !b) return ''
  const ms = Date.parse(a) - Date.parse(b)
  return Math.abs(ms) < 1000 ? `${ms > 0 ? '+' : ''}${ms} ms` : ''
}
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('events.events') }}</h1>
      <span class="quiet">{{ t('events.what-devices-reported-the-newest-first') }}</span>
      <el-select v-model="station" clearable filterable :placeholder="t('events.all-stations')" style="width: 170px" :aria-label="t('events.station')"><el-option v-for="s in reporting" :key="s.name" :value="s.name" :label="s.name" /></el-select>
      <el-input v-model="tag" clearable :placeholder="t('events.part-of-a-tag')" style="width: 210px" name="tag" data-search />
      <span class="grow" />
      <el-button data-test="hold" @click="held = !held">{{ t(held ? 'common.go-on' : 'common.hold') }}</el-button>
    </div>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <div class="panel fill list" data-test="events">
      <table v-if="events.length > 0">
        <thead>
          <tr>
            <th>{{ t('events.device-time') }}</th>
            <th class="right" :title="t('events.since-the-one-below-by-the')">{{ t('events.since-the-one-before') }}</th>
            <th>{{ t('events.tag') }}</th>
            <th>{{ t('events.value') }}</th>
            <th>{{ t('events.quality') }}</th>
            <th class="right">{{ t('events.came-after') }}</th>
            <th>{{ t('events.object') }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(e, i) in events" :key="e.id">
            <td class="number">{{ stamp(e.source_time) }}</td>
            <td class="number quiet right">{{ gap(i) }}</td>
            <td>
              <router-link :to="{ path: '/live', query: { point: e.tag } }">{{ e.tag }}</router-link>
            </td>
            <td class="value">{{ e.text }} {{ e.unit }}</td>
            <td><QualityMark :quality="e.quality" :reason="e.reason" /></td>
            <td class="number quiet right">{{ later(e) }}</td>
            <td class="mono quiet">{{ e.raw }}</td>
          </tr>
        </tbody>
      </table>
      <div v-if="events.length > 0 && !done" class="more"><el-button size="small" @click="earlier">{{ t('events.earlier-ones') }}</el-button></div>
      <el-empty v-if="events.length === 0" :description="t(reporting.length > 0 ? 'events.none' : 'events.nobody')" />
    </div>
  </div>
</template>

<style scoped>
.list {
  overflow: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
}
th {
  position: sticky;
  top: 0;
  padding: 7px 12px;
  text-align: left;
  font-weight: 600;
  background: var(--el-bg-color);
  z-index: 1;
}
td {
  padding: 3px 12px;
  border-bottom: 1px solid var(--el-border-color-extra-light);
  white-space: nowrap;
}
.right {
  text-align: right;
}
.value {
  font-weight: 600;
}
a {
  color: var(--el-color-primary);
  text-decoration: none;
}
.more {
  padding: 10px;
  text-align: center;
}
</style>
