<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Note } from '../../api/client'
import { useEvery } from '../../composables/useEvery'
import { useMe } from '../../composables/useMe'
import { useQuery } from '../../composables/useQuery'
import { time } from '../../time'

const { t } = useI18n()
const who = useMe()
const all = useQuery('all')
const notes = ref<Note[]>()
const problem = ref('')

async function load() {
  try {
    notes.value = await api.notes({})
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
useEvery(5000, load)
const shown = computed(() => (notes.value ?? []).filter((n) => all.value || !n.done_by))
async function close(n: Note) {
  try {
    await api.closeNote(n.id, !n.done_by)
    await load()
  } catch (error) {
    problem.value = message(error)
  }
}
const where = (n: Note) => ({ path: `/${n.kind}s`, query: { [n.kind]: n.name } })
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('pages.notes') }}</h1>
      <span class="quiet">{{ t('notes.what-people-wrote') }}</span>
      <span class="grow" />
      <el-checkbox :model-value="Boolean(all)" :label="t('notes.also-done')" @update:model-value="(v: unknown) => (all = v ? 'yes' : '')" />
    </div>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <div class="panel fill">
      <el-table v-if="notes" :data="shown" height="100%" :empty-text="t('notes.none')">
        <el-table-column :label="t('notes.done')" width="70"><template #default="{ row }"><el-checkbox :model-value="Boolean(row.done_by)" :disabled="!who.may('operator')" :aria-label="t('notes.done')" @change="close(row)" /></template></el-table-column>
        <el-table-column :label="t('notes.at')" min-width="190">
          <template #default="{ row }"><span class="quiet">{{ t(`kinds.${row.kind}`) }}</span> <router-link :to="where(row)">{{ row.name }}</router-link></template>
        </el-table-column>
        <el-table-column :label="t('notes.note')" min-width="340"><template #default="{ row }"><span class="text" :class="{ quiet: row.done_by }">{{ row.text }}</span></template></el-table-column>
        <el-table-column prop="who" :label="t('changes.who')" width="130" />
        <el-table-column :label="t('changes.time')" width="170"><template #default="{ row }">{{ time(row.time) }}</template></el-table-column>
        <el-table-column v-if="all" :label="t('notes.done-by-whom')" width="130" prop="done_by" />
      </el-table>
    </div>
  </div>
</template>

<style scoped>
.text {
  white-space: pre-line;
}
</style>
