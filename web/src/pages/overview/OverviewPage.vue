<script setup lang="ts">
import { computed } from 'vue'

import { backupURL, exportURL } from '../../api/client'
import FindingList from '../../components/FindingList.vue'
import StateMark from '../../components/StateMark.vue'
import { useEvery, useNow } from '../../composables/useEvery'
import { useSite } from '../../composables/useSite'
import { age } from '../../format'
import ApplyFile from './ApplyFile.vue'

const site = useSite()
const now = useNow()
useEvery(1000, () => site.loadStatus())

const total = computed(() => {
  const sum = { good: 0, uncertain: 0, bad: 0 }
  for (const s of site.status.stations) {
    sum.good += s.points.good
    sum.uncertain += s.points.uncertain
    sum.bad += s.points.bad
  }
  return sum
})
const links = computed(() =>
  site.status.links.map((link) => ({ link, stations: site.status.stations.filter((s) => s.link === link.name) })),
)
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>Overview</h1>
      <span class="grow" />
      <ApplyFile />
      <a :href="exportURL" download><el-button>Save site file</el-button></a>
      <a :href="backupURL" download><el-button title="The whole database: site, changes, writes and events">Save backup</el-button></a>
    </div>
    <el-alert v-if="site.problem" :title="site.problem" type="error" :closable="false" show-icon />
    <div class="totals">
      <router-link class="total good" :to="{ path: '/live', query: { quality: 'good' } }"><b>{{ total.good }}</b> points good</router-link>
      <router-link class="total uncertain" :to="{ path: '/live', query: { quality: 'uncertain' } }"><b>{{ total.uncertain }}</b> uncertain</router-link>
      <router-link class="total bad" :to="{ path: '/live', query: { quality: 'bad' } }"><b>{{ total.bad }}</b> bad</router-link>
    </div>
    <FindingList />
    <el-empty v-if="links.length === 0" description="No link yet. Begin with the path to a device.">
      <router-link to="/links?new=link"><el-button type="primary">Add a link</el-button></router-link>
    </el-empty>
    <section v-for="{ link, stations } in links" :key="link.name" class="panel">
      <div class="link">
        <router-link :to="{ path: '/links', query: { link: link.name } }" class="name">{{ link.name }}</router-link>
        <StateMark :state="link.state" :reason="link.reason" :doing="link.doing" />
        <span class="quiet">for {{ age(link.since, now) }}</span>
        <span v-if="link.reason" class="reason">{{ link.reason }}</span>
        <span class="grow" />
        <span class="quiet number">{{ link.statistics.requests }} requests, {{ link.statistics.answers }} answers, {{ link.statistics.round_trip_ms.toFixed(1) }} ms</span>
      </div>
      <el-table :data="stations" size="small" empty-text="No station on this link">
        <el-table-column label="Station" min-width="130">
          <template #default="{ row }">
            <router-link :to="{ path: '/stations', query: { station: row.name } }">{{ row.name }}</router-link>
          </template>
        </el-table-column>
        <el-table-column label="State" width="120">
          <template #default="{ row }"><StateMark :state="row.state" :reason="row.reason" /></template>
        </el-table-column>
        <el-table-column label="Good" prop="points.good" width="76" align="right" />
        <el-table-column label="Uncertain" prop="points.uncertain" width="92" align="right" />
        <el-table-column label="Bad" prop="points.bad" width="66" align="right" />
        <el-table-column label="Round trip" width="100" align="right">
          <template #default="{ row }">{{ row.statistics.last_answer ? `${row.statistics.round_trip_ms.toFixed(1)} ms` : '–' }}</template>
        </el-table-column>
        <el-table-column label="Last answer" width="105" align="right">
          <template #default="{ row }">{{ age(row.statistics.last_answer, now) }}</template>
        </el-table-column>
        <el-table-column label="Why" min-width="150">
          <template #default="{ row }"><span class="reason">{{ row.reason }}</span></template>
        </el-table-column>
      </el-table>
    </section>
  </div>
</template>

<style scoped>
.totals {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
}
.total {
  padding: 9px 18px;
  border-radius: 8px;
  border-left: 5px solid currentColor;
  background: var(--el-bg-color);
  text-decoration: none;
}
.total b {
  font-size: 22px;
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
.link {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 14px;
  padding: 11px 12px;
}
.grow {
  flex: 1;
}
.name {
  font-weight: 600;
  font-size: 15px;
}
.reason {
  color: var(--bad);
}
section a {
  color: var(--el-color-primary);
  text-decoration: none;
}
</style>
