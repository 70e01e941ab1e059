<script setup lang="ts">
import { Bell, MuteNotification } from '@element-plus/icons-vue'
import { ElMessage, ElMessageBox } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Alarm, type AlarmEntry } from '../../api/client'
import AlarmMark from '../../components/AlarmMark.vue'
import { useAlarms } from '../../composables/useAlarms'
import { useEvery, useNow } from '../../composables/useEvery'
import { useMe } from '../../composables/useMe'
import { useQuery } from '../../composables/useQuery'
import { age, time } from '../../time'

const { t } = useI18n()
const alarms = useAlarms()
const me = useMe()
const now = useNow()
const view = useQuery('view') // '', shelved, history
const search = useQuery('search')
const shelved = ref<Alarm[]>([])
const entries = ref<AlarmEntry[]>([])
const problem = ref('')

async function load() {
  try {
    if (view.value === 'shelved') shelved.value = (await api.alarms({ state: 'shelved', limit: 1000 })).items
    if (view.value === 'history') entries.value = await api.alarmHistory({ limit: 500 })
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
useEvery(2000, load)
watch(view, load)

const fits = (tag: string) => search.value.toLowerCase().split(/\s+/).every((word) => tag.toLowerCase().includes(word))
const list = computed(() => (view.value === 'shelved' ? shelved.value : alarms.items).filter((a) => fits(a.tag)))
const open = computed(() => list.value.filter((a) => a.state === 'active' || a.state === 'gone'))

async function act(what: () => Promise<unknown>) {
  try {
    await what()
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
  await Promise.all([alarms.load(), load()])
}
const acknowledge = (list: Alarm[]) => act(() => Promise.all(list.map((a) => api.alarmDeed('acknowledge', { tags: [a.tag], limit: a.limit }))))
const unshelve = (a: Alarm) => act(() => api.alarmDeed('unshelve', { tags: [a.tag], limit: a.limit }))
async function shelve(a: Alarm, length: string) {
  try {
    const { value } = await ElMessageBox.prompt(t('alarms.why', { tag: a.tag, limit: t(`alarms.limits.${a.limit}`), length: t(`alarms.for-${length}`) }), t('alarms.shelve'), { confirmButtonText: t('alarms.shelve'), cancelButtonText: t('common.leave-it') })
    await act(() => api.alarmDeed('shelve', { tags: [a.tag], limit: a.limit, for: length, note: value ?? '' }))
  } catch {
    // left as it was
  }
}
async function notices(on: boolean) {
  if (!(await alarms.wantNotices(on))) ElMessage({ type: 'warning', message: t('alarms.notices-refused') })
}
const trend = (a: { tag: string; since?: string | null }) => ({ path: '/trends', query: { tags: a.tag, last: '3600' } })
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('pages.alarms') }}</h1>
      <el-radio-group v-model="view" :aria-label="t('alarms.view')">
        <el-radio-button value="">{{ t('alarms.standing') }} {{ alarms.items.length || '' }}</el-radio-button>
        <el-radio-button value="shelved" data-test="view-shelved">{{ t('alarms.shelved') }} {{ alarms.counts.shelved || '' }}</el-radio-button>
        <el-radio-button value="history" data-test="view-history">{{ t('alarms.history') }}</el-radio-button>
      </el-radio-group>
      <el-input v-model="search" :placeholder="t('trends.search')" clearable style="width: 200px" :aria-label="t('trends.search')" />
      <span class="grow" />
      <el-checkbox v-model="alarms.sound" data-test="sound" @change="(on: unknown) => on && alarms.ring(3)">{{ t('alarms.sound') }}</el-checkbox>
      <el-checkbox :model-value="alarms.notices" data-test="notices" @change="(on: unknown) => notices(Boolean(on))">{{ t('alarms.notices') }}</el-checkbox>
      <el-button v-if="view === '' && me.may('operator')" type="primary" :disabled="open.length === 0" data-test="ack-all" @click="acknowledge(open)">{{ t('alarms.acknowledge-all', { n: open.length }) }}</el-button>
    </div>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <div class="panel fill list" data-test="alarms">
      <table v-if="view === 'history' && entries.length > 0">
        <thead>
          <tr><th>{{ t('alarms.time') }}</th><th>{{ t('alarms.step') }}</th><th>{{ t('columns.tag') }}</th><th>{{ t('alarms.limit') }}</th><th>{{ t('columns.value') }}</th><th>{{ t('alarms.who') }}</th><th>{{ t('alarms.note') }}</th></tr>
        </thead>
        <tbody>
          <tr v-for="e in entries.filter((x) => fits(x.tag))" :key="e.id">
            <td class="number">{{ time(e.time) }}</td>
            <td>{{ t(`alarms.steps.${e.step}`) }}</td>
            <td><router-link :to="trend(e)">{{ e.tag }}</router-link></td>
            <td>{{ t(`alarms.limits.${e.limit}`) }}<span v-if="e.bound != null" class="number"> {{ e.bound }}</span></td>
            <td class="number">{{ e.value }}</td>
            <td>{{ e.who }}</td>
            <td class="note">{{ e.until ? t('alarms.until', { time: time(e.until) }) : '' }} {{ e.note }}</td>
          </tr>
        </tbody>
      </table>
      <table v-else-if="view !== 'history' && list.length > 0">
        <thead>
          <tr><th class="right" :title="t('alarms.severity-means')">{{ t('alarms.severity') }}</th><th>{{ t('alarms.state') }}</th><th>{{ t('columns.tag') }}</th><th>{{ t('alarms.limit') }}</th><th class="right">{{ t('alarms.value') }}</th><th class="right">{{ t('alarms.now') }}</th><th>{{ t('alarms.since') }}</th><th /></tr>
        </thead>
        <tbody>
          <tr v-for="a in list" :key="`${a.tag} ${a.limit}`" :data-alarm="`${a.tag} ${a.limit}`">
            <td class="right number">{{ a.severity }}</td>
            <td>
              <AlarmMark :state="a.state" :severity="a.severity" :unknown="a.unknown" />
              <div v-if="a.acknowledged_by && a.state === 'acknowledged'" class="quiet">{{ a.acknowledged_by }}<template v-if="a.note">: {{ a.note }}</template></div>
              <div v-if="a.shelved_until" class="quiet">{{ t('alarms.until', { time: time(a.shelved_until) }) }}, {{ a.shelved_by }}<template v-if="a.note">: {{ a.note }}</template></div>
            </td>
            <td><router-link :to="{ path: '/live', query: { point: a.tag } }">{{ a.tag }}</router-link></td>
            <td>{{ t(`alarms.limits.${a.limit}`) }} <span class="number">{{ a.bound_text }}</span></td>
            <td class="right number">{{ a.text || '–' }}</td>
            <td class="right number">{{ a.now || '–' }}</td>
            <td :title="a.since ? time(a.since) : ''"><template v-if="a.since">{{ age(a.since, now) }}</template></td>
            <td class="acts">
              <router-link :to="trend(a)"><el-button size="small">{{ t('alarms.trend') }}</el-button></router-link>
              <template v-if="me.may('operator')">
                <el-button v-if="(a.state === 'active' || a.state === 'gone') && !a.shelved_until" size="small" type="primary" :icon="Bell" data-test="ack" @click="acknowledge([a])">{{ t('alarms.acknowledge') }}</el-button>
                <el-button v-if="a.shelved_until" size="small" data-test="unshelve" @click="unshelve(a)">{{ t('alarms.unshelve') }}</el-button>
                <el-dropdown v-else trigger="click" @command="(length: string) => shelve(a, length)">
                  <el-button size="small" :icon="MuteNotification" data-test="shelve">{{ t('alarms.shelve') }}…</el-button>
                  <template #dropdown>
                    <el-dropdown-menu><el-dropdown-item v-for="length in ['15m', '1h', '8h', '1d']" :key="length" :command="length">{{ t(`alarms.for-${length}`) }}</el-dropdown-item></el-dropdown-menu>
                  </template>
                </el-dropdown>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
      <el-empty v-else :description="t(view === 'history' ? 'alarms.no-history' : view === 'shelved' ? 'alarms.none-shelved' : 'alarms.none')" />
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
  z-index: 1;
  text-align: left;
  font-weight: 600;
  background: var(--el-bg-color);
}
th,
td {
  padding: 7px 10px;
  vertical-align: top;
}
td {
  border-top: 1px solid var(--el-border-color-lighter);
}
td a {
  color: inherit;
}
td {
  white-space: nowrap;
}
.right {
  text-align: right;
}
.acts {
  white-space: nowrap;
  text-align: right;
}
.acts > * {
  margin-left: 6px;
}
.note {
  overflow-wrap: anywhere;
}
</style>
