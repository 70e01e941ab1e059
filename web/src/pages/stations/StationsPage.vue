<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Station } from '../../api/client'
import ChangedBy from '../../components/ChangedBy.vue'
import NoteMark from '../../components/NoteMark.vue'
import EntityDrawer from '../../components/EntityDrawer.vue'
import StateMark from '../../components/StateMark.vue'
import { useEvery } from '../../composables/useEvery'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import ImportStations from './ImportStations.vue'
import StationForm from './StationForm.vue'

const { t } = useI18n()

const site = useSite()
void site.loadLinks()
void site.loadStations()
useEvery(1500, () => site.loadStatus())

const chosen = useQuery('station')
const adding = useQuery('new')
const importing = useQuery('import')
const states = computed(() => new Map(site.status.stations.map((s) => [s.name, s])))
const typed = (s: Station) => site.protocolOf(s)?.typed ?? false

function taken() {
  void site.loadLinks()
  void site.loadStations()
}
async function saved(close: () => void) {
  close()
  await site.loadStations()
}
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('stations.stations') }}</h1>
      <span class="quiet">{{ t('stations.the-devices-on-the-links') }}</span>
      <span class="grow" />
      <el-button data-test="import" @click="importing = 'list'">{{ t('points.import') }}</el-button>
      <el-button type="primary" data-test="add" :disabled="site.links.length === 0" @click="adding = 'station'">{{ t('stations.add-a-station') }}</el-button>
    </div>
    <el-alert v-if="site.problem" :title="site.problem" type="error" :closable="false" show-icon />
    <EntityDrawer v-slot="{ entity, close }" kind="station" :all="site.stations" :loaded="site.loaded.stations" :width="480">
      <StationForm :station="entity" @saved="saved(close)" />
    </EntityDrawer>
    <ImportStations v-if="importing" @closed="importing = ''" @taken="taken" />
    <el-table :data="site.stations" class="panel" :empty-text="t('stations.no-station-yet')" @row-click="(row: Station) => (chosen = row.name)">
      <el-table-column :label="t('stations.name')" min-width="130"><template #default="{ row }">{{ row.name }}<NoteMark kind="station" :name="row.name" /><ChangedBy kind="station" :name="row.name" /></template></el-table-column>
      <el-table-column :label="t('stations.state')" width="125">
        <template #default="{ row }"><StateMark :state="states.get(row.name)?.state ?? 'unknown'" :reason="states.get(row.name)?.reason" /></template>
      </el-table-column>
      <el-table-column prop="link" :label="t('stations.link')" min-width="120" />
      <el-table-column :label="t('stations.address')" width="95" align="right"><template #default="{ row }">{{ row.outstation ?? row.unit }}</template></el-table-column>
      <el-table-column :label="t('stations.notation')" width="95"><template #default="{ row }">{{ typed(row) ? site.protocolOf(row)?.title : row.notation }}</template></el-table-column>
      <el-table-column :label="t('stations.byte-order')" width="105" class-name="mono"><template #default="{ row }">{{ typed(row) ? '' : row.order }}</template></el-table-column>
      <el-table-column :label="t('stations.poll')" width="75"><template #default="{ row }">{{ typed(row) ? (row.event_poll ?? '5s') : row.poll }}</template></el-table-column>
      <el-table-column :label="t('stations.points')" width="80" align="right">
        <template #default="{ row }">{{ (states.get(row.name)?.points.good ?? 0) + (states.get(row.name)?.points.uncertain ?? 0) + (states.get(row.name)?.points.bad ?? 0) }}</template>
      </el-table-column>
      <el-table-column v-if="site.stations.some((s) => s.template)" :label="t('templates.template')" min-width="110">
        <template #default="{ row }"><router-link v-if="row.template" :to="{ path: '/templates', query: { template: row.template, part: 'stations', station: row.name } }" @click.stop>{{ row.template }}</router-link></template>
      </el-table-column>
      <el-table-column :label="t('stations.description')" min-width="180">
        <template #default="{ row }">{{ row.description }}<span v-if="states.get(row.name)?.says?.length" class="says"> {{ t('stations.it-says', { what: states.get(row.name)?.says?.join(', ') }) }}</span></template>
      </el-table-column>
    </el-table>
  </div>
</template>

<style scoped>
.says {
  color: var(--uncertain);
}
</style>
