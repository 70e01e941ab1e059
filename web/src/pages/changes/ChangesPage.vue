<script setup lang="ts">
import { ElMessage, ElMessageBox } from 'element-plus'
import { onScopeDispose, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type ChangeRecord, type Quarantined, type WriteRecord } from '../../api/client'
import { useMe } from '../../composables/useMe'
import { useQuery } from '../../composables/useQuery'
import { useTogether } from '../../composables/useTogether'
import { time } from '../../time'
import ProposalList from './ProposalList.vue'
import VersionList from './VersionList.vue'

const { t } = useI18n()

const view = useQuery('view')
const who = useMe()
const changes = ref<ChangeRecord[]>([])
const writes = ref<WriteRecord[]>([])
const aside = ref<Quarantined[]>([])
const next = ref<string>()
const problem = ref('')

async function load(more = false) {
  if (view.value === 'versions' || view.value === 'proposals') {
    next.value = undefined
    return
  }
  try {
    if (view.value === 'writes') {
      const page = await api.writes(more ? next.value : undefined)
      writes.value = more ? [...writes.value, ...page.items] : page.items
      next.value = page.next
    } else if (view.value === 'quarantine') {
      aside.value = (await api.quarantine()).items
      next.value = undefined
    } else {
      const page = await api.changes(more ? next.value : undefined)
      changes.value = more ? [...changes.value, ...page.items] : page.items
      next.value = page.next
    }
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
watch(view, () => load(), { immediate: true })
onScopeDispose(useTogether().follow(() => void (view.value === '' && load())))

type Fields = Record<string, unknown>
const words = (v: unknown) => (v === undefined ? '–' : typeof v === 'string' ? v : JSON.stringify(v))

/** As much of a text as is read at a glance. */
const glance = (text: string) => (text.length > 160 ? `${text.slice(0, 160)}…` : text)

/** The entries of a list that another one does not have; other values as they are. */
function without(v: unknown, other: unknown): unknown {
  if (!Array.isArray(v) || !Array.isArray(other) || v.length + other.length <= 4) return v
  const there = new Set(other.map((e) => JSON.stringify(e)))
  const own = v.filter((e) => !there.has(JSON.stringify(e)))
  return own.length === 1 ? own[0] : own
}

/** Where a link goes: to a port of this machine, to a host, or to who calls in. */
function farEnd(e: Fields): string {
  if (e.serial) return `at ${words((e.serial as Fields).device)}`
  if (e.listen) return `on ${words(e.listen)}`
  return `to ${words(e.host)}:${words(e.port)}`
}

/** What an entity that came or went was, in few words. */
function gist(kind: string, e: Fields): string {
  if (kind === 'link') return `${words(e.protocol)} over ${words(e.transport)} ${farEnd(e)}`
  if (kind === 'station') return `${e.outstation === undefined ? `unit ${words(e.unit)}` : `outstation ${words(e.outstation)}`} on ${words(e.link)}`
  if (kind === 'point') return `${words(e.address)} ${words(e.type)} of ${words(e.station)}`
  return typeof e.description === 'string' ? glance(e.description) : ''
}

/** What a change did, field by field. */
function differences(c: ChangeRecord): string {
  const before = (c.before ?? {}) as Fields
  const after = (c.after ?? {}) as Fields
  if (c.action !== 'change') return gist(c.kind, c.action === 'add' ? after : before)
  return Object.keys({ ...before, ...after })
    .filter((k) => JSON.stringify(before[k]) !== JSON.stringify(after[k]))
    .map((k) => `${k}: ${glance(words(without(before[k], after[k])))} → ${glance(words(without(after[k], before[k])))}`)
    .join('; ')
}
async function undo(c: ChangeRecord) {
  try {
    await ElMessageBox.confirm(t('changes.undone', { what: `${c.action} ${c.kind} ${c.name}` }), t('changes.really'), { confirmButtonText: t('changes.take-back'), cancelButtonText: t('common.leave-it'), type: 'warning' })
  } catch {
    return
  }
  try {
    const sum = await api.undo(c.id)
    ElMessage.success(t('changes.n-undone', { n: sum.changes.length }))
    await load()
  } catch (error) {
    problem.value = message(error)
  }
}
const value = (v: unknown) => (v === null || v === undefined ? '–' : String(v))
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('changes.changes') }}</h1>
      <el-radio-group :model-value="view || 'site'" @update:model-value="(v: unknown) => (view = v === 'site' ? '' : String(v))">
        <el-radio-button value="site">{{ t('changes.of-the-site') }}</el-radio-button>
        <el-radio-button value="versions" data-test="versions">{{ t('versions.versions') }}</el-radio-button>
        <el-radio-button value="proposals" data-test="proposals">{{ t('proposals.proposals') }}</el-radio-button>
        <el-radio-button value="writes">{{ t('changes.writes-to-devices') }}</el-radio-button>
        <el-radio-button value="quarantine">{{ t('changes.put-aside-at-the-start') }}</el-radio-button>
      </el-radio-group>
    </div>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <VersionList v-if="view === 'versions'" />
    <ProposalList v-else-if="view === 'proposals'" />
    <div v-else class="panel fill">
      <el-table v-if="view === 'writes'" :data="writes" height="100%" size="small" :empty-text="t('changes.nothing-was-written-yet')">
        <el-table-column :label="t('changes.time')" width="170"><template #default="{ row }">{{ time(row.time) }}</template></el-table-column>
        <el-table-column prop="who" :label="t('changes.who')" width="110" />
        <el-table-column prop="tag" :label="t('changes.tag')" min-width="190" />
        <el-table-column prop="outcome" :label="t('changes.outcome')" width="95" />
        <el-table-column :label="t('changes.before')" width="100"><template #default="{ row }">{{ value(row.before) }}</template></el-table-column>
        <el-table-column :label="t('changes.sent')" width="100"><template #default="{ row }">{{ value(row.sent) }}</template></el-table-column>
        <el-table-column :label="t('changes.read-back')" width="100"><template #default="{ row }">{{ value(row.after) }}</template></el-table-column>
        <el-table-column prop="message" :label="t('changes.message')" min-width="260" />
      </el-table>
      <el-table v-else-if="view === 'quarantine'" :data="aside" height="100%" size="small" :empty-text="t('changes.every-stored-record-fits-the-site')">
        <el-table-column :label="t('changes.time')" width="170"><template #default="{ row }">{{ time(row.time) }}</template></el-table-column>
        <el-table-column prop="kind" :label="t('changes.kind')" width="80" />
        <el-table-column prop="name" :label="t('changes.name')" min-width="160" />
        <el-table-column prop="why" :label="t('changes.why-it-does-not-fit')" min-width="240" />
        <el-table-column prop="body" :label="t('changes.as-it-was-stored')" min-width="320" class-name="mono" />
      </el-table>
      <el-table v-else :data="changes" height="100%" size="small" :empty-text="t('changes.nothing-was-changed-yet')">
        <el-table-column :label="t('changes.time')" width="170"><template #default="{ row }">{{ time(row.time) }}</template></el-table-column>
        <el-table-column prop="who" :label="t('changes.who')" width="110" />
        <el-table-column prop="action" :label="t('changes.action')" width="85" />
        <el-table-column prop="kind" :label="t('changes.kind')" width="80" />
        <el-table-column prop="name" :label="t('changes.name')" min-width="180" />
        <el-table-column :label="t('changes.what-was-what-is')" min-width="300"><template #default="{ row }"><b v-if="row.message">{{ row.message }}<br /></b>{{ differences(row) }}</template></el-table-column>
        <el-table-column v-if="who.may('engineer')" width="105" align="right"><template #default="{ row }"><el-button size="small" @click="undo(row)">{{ t('changes.undo') }}</el-button></template></el-table-column>
      </el-table>
    </div>
    <div v-if="next"><el-button @click="load(true)">{{ t('changes.show-older-ones') }}</el-button></div>
  </div>
</template>
