<script setup lang="ts">
import { computed } from 'vue'

import type { Station } from '../../api/client'
import StateMark from '../../components/StateMark.vue'
import { useEvery } from '../../composables/useEvery'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import StationForm from './StationForm.vue'

const site = useSite()
void site.loadLinks()
void site.loadStations()
useEvery(1500, () => site.loadStatus())

const chosen = useQuery('station')
const adding = useQuery('new')
const states = computed(() => new Map(site.status.stations.map((s) => [s.name, s])))
const typed = (s: Station) => site.protocolOf(s)?.typed ?? false
const station = computed(() => site.stations.find((s) => s.name === chosen.value))

function close() {
  chosen.value = ''
  adding.value = ''
}
async function saved() {
  close()
  await site.loadStations()
}
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>Stations</h1>
      <span class="quiet">the devices on the links</span>
      <span class="grow" />
      <el-button type="primary" data-test="add" :disabled="site.links.length === 0" @click="adding = 'station'">Add a station</el-button>
    </div>
    <el-alert v-if="site.problem" :title="site.problem" type="error" :closable="false" show-icon />
    <el-table :data="site.stations" class="panel" empty-text="No station yet" @row-click="(row: Station) => (chosen = row.name)">
      <el-table-column prop="name" label="Name" min-width="130" />
      <el-table-column label="State" width="125">
        <template #default="{ row }"><StateMark :state="states.get(row.name)?.state ?? 'unknown'" :reason="states.get(row.name)?.reason" /></template>
      </el-table-column>
      <el-table-column prop="link" label="Link" min-width="120" />
      <el-table-column label="Address" width="95" align="right"><template #default="{ row }">{{ row.outstation ?? row.unit }}</template></el-table-column>
      <el-table-column label="Notation" width="95"><template #default="{ row }">{{ typed(row) ? site.protocolOf(row)?.title : row.notation }}</template></el-table-column>
      <el-table-column label="Byte order" width="105" class-name="mono"><template #default="{ row }">{{ typed(row) ? '' : row.order }}</template></el-table-column>
      <el-table-column label="Poll" width="75"><template #default="{ row }">{{ typed(row) ? (row.event_poll ?? '5s') : row.poll }}</template></el-table-column>
      <el-table-column label="Points" width="80" align="right">
        <template #default="{ row }">{{ (states.get(row.name)?.points.good ?? 0) + (states.get(row.name)?.points.uncertain ?? 0) + (states.get(row.name)?.points.bad ?? 0) }}</template>
      </el-table-column>
      <el-table-column label="Description" min-width="180">
        <template #default="{ row }">{{ row.description }}<span v-if="states.get(row.name)?.says?.length" class="says"> It says: {{ states.get(row.name)?.says?.join(', ') }}</span></template>
      </el-table-column>
    </el-table>
    <el-drawer :model-value="Boolean(station) || adding === 'station'" :title="station ? `Station ${station.name}` : 'New station'" size="min(480px, 96vw)" destroy-on-close @close="close">
      <StationForm :station="station" @saved="saved" />
    </el-drawer>
  </div>
</template>

<style scoped>
.says {
  color: var(--uncertain);
}
</style>
