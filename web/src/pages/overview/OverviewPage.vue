<script setup lang="ts">
import { ArrowDown, ArrowRight } from '@element-plus/icons-vue'
import { computed, reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, backupURL, exportURL, type Finding, type Watch } from '../../api/client'
import StateMark from '../../components/StateMark.vue'
import { useEvery, useNow } from '../../composables/useEvery'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import { cause } from '../../language'
import { age } from '../../time'
import ApplyFile from './ApplyFile.vue'
import { rows } from './rows'

const { t } = useI18n()
const site = useSite()
const now = useNow()
const loaded = ref(false)
const filter = useQuery('search')
const only = useQuery('only')
const decided = reactive<Record<string, boolean>>({})
const findings = ref<Finding[]>([])
const watching = ref<Watch[]>([])

useEvery(1000, async () => {
  await site.loadStatus()
  loaded.value = true
})
useEvery(2000, async () => {
  try {
    const all = await api.findings()
    findings.value = all.items
    watching.value = all.watching
  } catch {
    // the page says that the service does not answer
  }
})

const total = computed(() => {
  const sum = { good: 0, uncertain: 0, bad: 0 }
  for (const s of site.status.stations) {
    sum.good += s.points.good
    sum.uncertain += s.points.uncertain
    sum.bad += s.points.bad
  }
  return sum
})
const list = computed(() => rows(site.status.links, site.status.stations, filter.value, only.value === 'wrong', decided))

/** Findings of one code together, the first of each with its words. */
const groups = computed(() => {
  const of = new Map<string, Finding[]>()
  for (const f of findings.value) of.set(f.code, [...(of.get(f.code) ?? []), f])
  return [...of.values()]
})
const others = 4
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('pages.overview') }}</h1>
      <router-link class="total good" :to="{ path: '/live', query: { quality: 'good' } }"><b>{{ total.good }}</b> {{ t('quality.good') }}</router-link>
      <router-link class="total uncertain" :to="{ path: '/live', query: { quality: 'uncertain' } }"><b>{{ total.uncertain }}</b> {{ t('quality.uncertain') }}</router-link>
      <router-link class="total bad" :to="{ path: '/live', query: { quality: 'bad' } }"><b>{{ total.bad }}</b> {{ t('quality.bad') }}</router-link>
      <span class="grow" />
      <ApplyFile />
      <a :href="exportURL" download class="button"><span class="el-button">{{ t('overview.export') }}</span></a>
      <a :href="backupURL" download class="button" :title="t('overview.backup-about')"><span class="el-button">{{ t('overview.backup') }}</span></a>
    </div>
    <el-alert v-if="site.problem" :title="site.problem" type="error" :closable="false" show-icon />
    <div v-if="groups.length + watching.length > 0" class="panel found" data-test="findings">
      <div v-for="w in watching.slice(0, others)" :key="w.station" class="line quiet" data-test="watching">{{ w.text }}</div>
      <router-link v-for="g in groups" :key="g[0]!.code" :to="{ path: '/findings', query: g.length === 1 ? { subject: g[0]!.subject } : {} }" class="line" :data-test="`finding-${g[0]!.code}`">
        <svg viewBox="0 0 14 14" width="14" height="14" aria-hidden="true"><path d="M7 1l6 12H1z" fill="none" stroke="currentColor" stroke-width="1.6" /><path d="M7 5v4M7 10.6v1" stroke="currentColor" stroke-width="1.6" /></svg>
        <b>{{ g[0]!.subject }}</b><span class="cause">{{ cause(g[0]!) }}</span>
        <span v-if="g.length > 1" class="quiet">{{ t('overview.more', { names: g.slice(1, others).map((f) => f.subject).join(', '), n: g.length - 1 }) }}</span>
      </router-link>
    </div>
    <el-empty v-if="loaded && site.status.links.length === 0" :description="t('overview.empty')">
      <router-link to="/begin" data-test="begin"><el-button type="primary" size="large">{{ t('overview.begin') }}</el-button></router-link>
    </el-empty>
    <template v-else>
      <div class="page-bar">
        <el-input v-model="filter" :placeholder="t('overview.filter')" :aria-label="t('overview.filter')" name="overview-search" clearable style="width: 260px" />
        <el-radio-group v-model="only" :aria-label="t('overview.which')">
          <el-radio-button value="">{{ t('overview.all') }}</el-radio-button>
          <el-radio-button value="wrong" data-test="only-wrong">{{ t('overview.wrong') }}</el-radio-button>
        </el-radio-group>
        <span class="quiet">{{ t('counts.links', site.status.links.length) }}, {{ t('counts.stations', site.status.stations.length) }}</span>
      </div>
      <div class="panel fill scroll" tabindex="0" role="region" :aria-label="t('pages.overview')">
        <table data-test="overview">
          <thead>
            <tr>
              <th>{{ t('kinds.link') }}</th>
              <th>{{ t('kinds.station') }}</th>
              <th>{{ t('overview.state') }}</th>
              <th class="number">{{ t('quality.good') }}</th>
              <th class="number">{{ t('quality.uncertain') }}</th>
              <th class="number">{{ t('quality.bad') }}</th>
              <th class="number">{{ t('overview.trip') }}</th>
              <th class="number">{{ t('overview.last') }}</th>
              <th>{{ t('overview.why') }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="r in list" :key="r.key" :class="{ below: !r.link }">
              <td>
                <template v-if="r.link">
                  <button v-if="r.below" type="button" class="fold" :aria-expanded="r.open" :aria-label="t('overview.stations', { name: r.link.name })" @click="decided[r.link.name] = !r.open"><el-icon><ArrowDown v-if="r.open" /><ArrowRight v-else /></el-icon></button>
                  <router-link :to="{ path: '/links', query: { link: r.link.name } }" class="name">{{ r.link.name }}</router-link>
                </template>
              </td>
              <td>
                <router-link v-if="r.station" :to="{ path: '/stations', query: { station: r.station.name } }">{{ r.station.name }}</router-link>
                <span v-else class="quiet">{{ r.below ? t('overview.several', { n: r.below }) : t('overview.no-station') }}</span>
              </td>
              <td class="state">
                <StateMark v-if="r.link && (r.link.state !== 'up' || !r.station)" :state="r.link.state" :reason="r.link.reason" :doing="r.link.doing" />
                <StateMark v-else-if="r.station" :state="r.station.state" :reason="r.station.reason" />
              </td>
              <td class="number">{{ r.good || '' }}</td>
              <td class="number uncertain">{{ r.uncertain || '' }}</td>
              <td class="number bad">{{ r.bad || '' }}</td>
              <td class="number">{{ (r.station ?? r.link)?.statistics.last_answer ? `${(r.station ?? r.link)!.statistics.round_trip_ms.toFixed(1)} ms` : '–' }}</td>
              <td class="number">{{ age((r.station ?? r.link)?.statistics.last_answer, now) }}</td>
              <td class="why" :title="r.link?.reason || r.station?.reason">{{ r.link?.reason || r.station?.reason }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </div>
</template>

<style scoped>
.total {
  padding: 3px 11px;
  border-radius: 6px;
  border-left: 4px solid currentColor;
  background: var(--el-bg-color);
  text-decoration: none;
}
.total b {
  font-size: 17px;
  font-variant-numeric: tabular-nums;
}
.good {
  color: var(--good);
}
.uncertain {
  color: var(--uncertain);
}
.bad {
  color: var(--bad);
}
.button {
  text-decoration: none;
}
.found {
  display: flex;
  flex-direction: column;
  max-height: 30vh;
  overflow: auto;
  flex: none;
}
.line {
  display: flex;
  gap: 9px;
  align-items: baseline;
  padding: 6px 12px;
  color: inherit;
  text-decoration: none;
}
.line:hover .cause {
  text-decoration: underline;
}
.line svg {
  flex: none;
  color: var(--uncertain);
  align-self: center;
}
.cause {
  flex: 0 1 auto;
}
.scroll {
  overflow: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
  font-size: 13px;
}
th {
  position: sticky;
  top: 0;
  z-index: 1;
  padding: 7px 10px;
  text-align: left;
  white-space: nowrap;
  font-weight: 600;
  color: var(--el-text-color-secondary);
  background: var(--el-bg-color);
  box-shadow: 0 1px 0 var(--el-border-color-lighter);
}
td {
  padding: 4px 10px;
  border-top: 1px solid var(--el-border-color-extra-light);
  white-space: nowrap;
}
th::first-letter {
  text-transform: uppercase;
}
th.number,
td.number {
  text-align: right;
}
td.why {
  width: 100%;
  max-width: 0;
  min-width: 130px;
  overflow: hidden;
  text-overflow: ellipsis;
  color: var(--bad);
}
.name {
  font-weight: 600;
}
.fold {
  border: 0;
  background: none;
  color: inherit;
  cursor: pointer;
  padding: 0 4px 0 0;
  vertical-align: -2px;
}
tbody a {
  color: var(--el-color-primary);
  text-decoration: none;
}
@media (max-width: 700px) {
  .scroll {
    min-height: 300px;
  }
}
</style>
