<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Link } from '../../api/client'
import ChangedBy from '../../components/ChangedBy.vue'
import NoteMark from '../../components/NoteMark.vue'
import EntityDrawer from '../../components/EntityDrawer.vue'
import StateMark from '../../components/StateMark.vue'
import { useEvery } from '../../composables/useEvery'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import { farEnd } from '../../format'
import LinkForm from './LinkForm.vue'

const { t } = useI18n()

const site = useSite()
void site.loadLinks()
useEvery(1500, () => site.loadStatus())

const chosen = useQuery('link')
const adding = useQuery('new')
const states = computed(() => new Map(site.status.links.map((l) => [l.name, l])))

async function saved(close: () => void) {
  close()
  await site.loadLinks()
}
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('links.links') }}</h1>
      <span class="quiet">{{ t('links.the-paths-to-devices') }}</span>
      <span class="grow" />
      <el-button type="primary" data-test="add" @click="adding = 'link'">{{ t('links.add-a-link') }}</el-button>
    </div>
    <el-alert v-if="site.problem" :title="site.problem" type="error" :closable="false" show-icon />
    <EntityDrawer v-slot="{ entity, close }" kind="link" :all="site.links" :loaded="site.loaded.links" :width="480">
      <LinkForm :link="entity" @saved="saved(close)" />
    </EntityDrawer>
    <el-table :data="site.links" class="panel" :empty-text="t('links.no-link-yet')" @row-click="(row: Link) => (chosen = row.name)">
      <el-table-column :label="t('links.name')" min-width="130"><template #default="{ row }">{{ row.name }}<NoteMark kind="link" :name="row.name" /><ChangedBy kind="link" :name="row.name" /></template></el-table-column>
      <el-table-column :label="t('links.state')" width="165">
        <template #default="{ row }"><StateMark :state="states.get(row.name)?.state ?? 'unknown'" :reason="states.get(row.name)?.reason" :doing="states.get(row.name)?.doing" /></template>
      </el-table-column>
      <el-table-column :label="t('links.speaks')" width="180"><template #default="{ row }">{{ t('links.over', { what: `${row.protocol} ${row.framing ?? ''}`.trim(), transport: row.transport }) }}</template></el-table-column>
      <el-table-column :label="t('links.far-end')" min-width="160"><template #default="{ row }"><span class="mono">{{ farEnd(row) }}</span></template></el-table-column>
      <el-table-column prop="timeout" :label="t('links.timeout')" width="95" />
      <el-table-column prop="description" :label="t('links.description')" min-width="200" />
    </el-table>
  </div>
</template>
