<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, type Figures, type Windows } from '../../api/client'
import StateMark from '../../components/StateMark.vue'
import { useEvery } from '../../composables/useEvery'
import { useMe } from '../../composables/useMe'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import TrendLine from './TrendLine.vue'

const { t } = useI18n()
const who = useMe()

const site = useSite()
useEvery(1500, () => site.loadStatus())

const span = useQuery('span')
const spans = computed(() => ['', 'quarter', 'total'].map((value) => ({ value, label: t(`communication.spans.${value || 'minute'}`) })))
interface Row {
  name: string
  kind: 'link' | 'station'
  state: string
  reason?: string
  doing?: string
  windows: Windows
}
const rows = computed<Row[]>(() =>
  site.status.links.flatMap((l) => [
    { name: l.name, kind: 'link' as const, state: l.state, reason: l.reason, doing: l.doing, windows: l.figures },
    ...site.status.stations
      .filter((s) => s.link === l.name)
      .map((s) => ({ name: s.name, kind: 'station' as const, state: s.state, reason: s.reason, windows: s.figures })),
  ]),
)
const figures = (row: Row): Figures => (span.value === 'quarter' ? row.windows.quarter : span.value === 'total' ? row.windows.total : row.windows.minute)
const refused = (f: Figures) =>
  Object.entries(f.exceptions ?? {})
    .map(([code, n]) => `${n} × ${code}`)
    .join(', ')
const ms = (v: number) => (v ? v.toFixed(v < 10 ? 1 : 0) : '–')
const wrong = (f: Figures) => f.late_answers + f.foreign_answers + f.stray_answers
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('communication.communication') }}</h1>
      <el-radio-group v-model="span" :aria-label="t('communication.time')"><el-radio-button v-for="s in spans" :key="s.value" :value="s.value">{{ s.label }}</el-radio-button></el-radio-group>
      <span class="grow" />
      <el-button v-if="who.may('engineer')" @click="api.resetFigures()">{{ t('communication.reset') }}</el-button>
    </div>
    <el-table :data="rows" class="panel close" size="small" :empty-text="t('communication.no-link-yet')" row-key="name">
      <el-table-column :label="t('communication.name')" min-width="104" fixed>
        <template #default="{ row }">
          <router-link :class="row.kind" :to="{ path: row.kind === 'link' ? '/links' : '/stations', query: { [row.kind]: row.name } }">{{ row.name }}</router-link>
        </template>
      </el-table-column>
      <el-table-column :label="t('communication.state')" width="120"><template #default="{ row }"><StateMark :state="row.state" :reason="row.reason" :doing="row.doing" /></template></el-table-column>
      <el-table-column :label="t('communication.last-minute')" width="88"><template #default="{ row }"><router-link :to="{ path: '/traffic', query: { [row.kind]: row.name } }" :title="t('communication.its-frames')"><TrendLine :trend="row.windows.trend" /></router-link></template></el-table-column>
      <el-table-column :label="t('communication.good')" width="62" align="right"><template #default="{ row }"><span class="number" :class="{ low: figures(row).good < 0.98 }">{{ (100 * figures(row).good).toFixed(1) }} %</span></template></el-table-column>
      <el-table-column :label="t('communication.asked')" width="50" align="right"><template #default="{ row }">{{ figures(row).requests }}</template></el-table-column>
      <el-table-column :label="t('communication.timeout')" width="60" align="right"><template #default="{ row }">{{ figures(row).timeouts }}</template></el-table-column>
      <el-table-column :label="t('communication.checksum')" width="70" align="right"><template #default="{ row }">{{ figures(row).checksum_errors }}</template></el-table-column>
      <el-table-column :label="t('communication.refused')" width="58" align="right"><template #default="{ row }">{{ refused(figures(row)) || 0 }}</template></el-table-column>
      <el-table-column :label="t('communication.retries')" width="54" align="right"><template #default="{ row }">{{ figures(row).retries }}</template></el-table-column>
      <el-table-column :label="t('communication.odd')" width="38" align="right"><template #default="{ row }"><span :title="t('communication.late-foreign-and-stray-responses')">{{ wrong(figures(row)) }}</span></template></el-table-column>
      <el-table-column :label="t('communication.round-trip-ms')" width="104" align="right"><template #default="{ row }"><span class="number" :title="`median, 95 %, most; least ${ms(figures(row).round_trip_ms.least)} ms, 99 % ${ms(figures(row).round_trip_ms.p99)} ms`">{{ ms(figures(row).round_trip_ms.median) }} / {{ ms(figures(row).round_trip_ms.p95) }} / {{ ms(figures(row).round_trip_ms.most) }}</span></template></el-table-column>
      <el-table-column :label="t('communication.busy')" width="46" align="right"><template #default="{ row }">{{ (100 * figures(row).occupancy).toFixed(0) }} %</template></el-table-column>
      <el-table-column :label="t('communication.bytes')" width="92" align="right"><template #default="{ row }"><span v-if="row.kind === 'link'" class="number">↑{{ figures(row).bytes_sent }} ↓{{ figures(row).bytes_received }}</span></template></el-table-column>
      <el-table-column :label="t('communication.late-polls')" width="78" align="right"><template #default="{ row }"><span v-if="row.kind === 'station'" class="number">{{ figures(row).late_polls }}, {{ ms(figures(row).most_late_ms) }} ms</span></template></el-table-column>
    </el-table>
  </div>
</template>

<style scoped>
.close :deep(.cell) {
  padding: 0 5px;
}
.close :deep(th .cell) {
  font-size: 11px;
  letter-spacing: -0.2px;
  text-overflow: clip;
  white-space: nowrap;
}
.close :deep(th.is-right .cell) {
  padding-left: 0;
}
.link {
  font-weight: 600;
}
.station {
  padding-left: 14px;
}
.low {
  color: var(--bad);
  font-weight: 600;
}
a {
  color: var(--el-color-primary);
  text-decoration: none;
}
</style>
