<script setup lang="ts">
import { computed } from 'vue'

import type { Link } from '../../api/client'
import StateMark from '../../components/StateMark.vue'
import { useEvery } from '../../composables/useEvery'
import { useQuery } from '../../composables/useQuery'
import { useSite } from '../../composables/useSite'
import { farEnd } from '../../format'
import LinkForm from './LinkForm.vue'

const site = useSite()
void site.loadLinks()
useEvery(1500, () => site.loadStatus())

const chosen = useQuery('link')
const adding = useQuery('new')
const states = computed(() => new Map(site.status.links.map((l) => [l.name, l])))
const link = computed(() => site.links.find((l) => l.name === chosen.value))

function close() {
  chosen.value = ''
  adding.value = ''
}
async function saved() {
  close()
  await site.loadLinks()
}
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>Links</h1>
      <span class="quiet">the paths to devices</span>
      <span class="grow" />
      <el-button type="primary" data-test="add" @click="adding = 'link'">Add a link</el-button>
    </div>
    <el-alert v-if="site.problem" :title="site.problem" type="error" :closable="false" show-icon />
    <el-table :data="site.links" class="panel" empty-text="No link yet" @row-click="(row: Link) => (chosen = row.name)">
      <el-table-column prop="name" label="Name" min-width="130" />
      <el-table-column label="State" width="165">
        <template #default="{ row }"><StateMark :state="states.get(row.name)?.state ?? 'unknown'" :reason="states.get(row.name)?.reason" :doing="states.get(row.name)?.doing" /></template>
      </el-table-column>
      <el-table-column label="Speaks" width="180"><template #default="{ row }">{{ row.protocol }} {{ row.framing }} over {{ row.transport }}</template></el-table-column>
      <el-table-column label="Far end" min-width="160"><template #default="{ row }"><span class="mono">{{ farEnd(row) }}</span></template></el-table-column>
      <el-table-column prop="timeout" label="Timeout" width="95" />
      <el-table-column prop="description" label="Description" min-width="200" />
    </el-table>
    <el-drawer :model-value="Boolean(link) || adding === 'link'" :title="link ? `Link ${link.name}` : 'New link'" size="min(480px, 96vw)" destroy-on-close @close="close">
      <LinkForm :link="link" @saved="saved" />
    </el-drawer>
  </div>
</template>
