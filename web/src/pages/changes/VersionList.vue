<script setup lang="ts">
import { ElMessage, ElMessageBox } from 'element-plus'
import { computed, reactive, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Comparison, type Version } from '../../api/client'
import DifferenceTable from '../../components/DifferenceTable.vue'
import { useMe } from '../../composables/useMe'
import { useQuery } from '../../composables/useQuery'
import { time } from '../../time'

// The named states of the site, and two states side by side.
const { t } = useI18n()
const who = useMe()
const from = useQuery('from')
const to = useQuery('to')
const only = useQuery('only')
/** The points that comparing and restoring are about; undefined for all. */
const branch = computed(() => {
  const patterns = only.value.split(',').map((p) => p.trim()).filter(Boolean)
  return patterns.length > 0 ? patterns : undefined
})
const list = ref<Version[]>()
const problem = ref('')
const compared = ref<Comparison>()
const form = reactive({ name: '', message: '' })

async function load() {
  try {
    list.value = await api.versions()
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
void load()
async function compare() {
  compared.value = undefined
  if (!from.value) return
  try {
    compared.value = await api.diff(from.value, to.value || 'now', branch.value)
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
watch([from, to, only], compare, { immediate: true })
async function add() {
  try {
    await api.addVersion({ name: form.name.trim(), message: form.message })
    Object.assign(form, { name: '', message: '' })
    await load()
  } catch (error) {
    problem.value = message(error)
  }
}
async function restore(state: string) {
  try {
    const would = await api.restore({ to: state, only: branch.value, dry_run: true })
    if (would.changes.length === 0) {
      ElMessage.info(t('versions.is-so'))
      return
    }
    const lines = would.changes.slice(0, 12).map((c) => `${t(`changes.act.${c.action}`)} ${t(`kinds.${c.kind}`)} ${c.name}`)
    if (would.changes.length > lines.length) lines.push('…')
    await ElMessageBox.confirm([t('versions.would', { added: would.added, changed: would.changed, removed: would.removed }), ...lines].join('\n'), branch.value ? t('versions.restore-only', { state, only: only.value }) : t('versions.restore-what', { state }), { confirmButtonText: t('versions.restore'), cancelButtonText: t('common.leave-it'), type: 'warning' })
  } catch (error) {
    if (error instanceof Error) problem.value = message(error)
    return
  }
  try {
    await api.restore({ to: state, only: branch.value })
    ElMessage.success(t('versions.restored', { state }))
    await compare()
  } catch (error) {
    problem.value = message(error)
  }
}
</script>

<template>
  <el-alert v-if="problem" :title="problem" type="error" show-icon @close="problem = ''" />
  <form v-if="who.may('engineer')" class="page-bar" @submit.prevent="add">
    <el-input v-model="form.name" :placeholder="t('versions.name-it')" style="width: 260px" :aria-label="t('versions.name-it')" data-test="version-name" />
    <el-input v-model="form.message" :placeholder="t('versions.say')" style="flex: 1; max-width: 420px" :aria-label="t('versions.say')" />
    <el-button native-type="submit" :disabled="!form.name.trim()" data-test="version-add">{{ t('versions.keep') }}</el-button>
  </form>
  <div class="columns fill">
    <div class="panel fill versions">
      <el-table v-if="list" :data="list" height="100%" size="small" :empty-text="t('versions.none')">
        <el-table-column :label="t('versions.version')" min-width="150">
          <template #default="{ row }"><b>{{ row.name }}</b><div v-if="row.message">{{ row.message }}</div><div class="quiet">{{ row.who }}, {{ time(row.time) }}</div></template>
        </el-table-column>
        <el-table-column width="205" align="right">
          <template #default="{ row }">
            <el-button size="small" :data-test="`compare-${row.name}`" @click="from = row.name">{{ t('versions.compare') }}</el-button>
            <el-button v-if="who.may('engineer')" size="small" :data-test="`restore-${row.name}`" @click="restore(row.name)">{{ t('versions.restore') }}</el-button>
          </template>
        </el-table-column>
      </el-table>
    </div>
    <div class="fill compare">
      <div class="page-bar">
        <el-input v-model.lazy="from" :placeholder="t('versions.from')" style="flex: 1" :aria-label="t('versions.from')" data-test="compare-from" />
        <span aria-hidden="true">→</span>
        <el-input v-model.lazy="to" :placeholder="t('versions.to')" style="flex: 1" :aria-label="t('versions.to')" data-test="compare-to" />
        <el-input v-model.lazy="only" :placeholder="t('versions.only')" clearable style="flex: 1" :aria-label="t('versions.only')" :title="t('versions.only-means')" data-test="compare-only" />
      </div>
      <div class="panel fill"><DifferenceTable v-if="compared" :items="compared.items" :from="compared.from.named" :to="compared.to.named" data-test="compared" /></div>
    </div>
  </div>
</template>

<style scoped>
.versions {
  flex: 1 1 360px;
  max-width: 440px;
}
.compare {
  flex: 2 1 420px;
  display: flex;
  flex-direction: column;
  gap: 10px;
}
</style>
