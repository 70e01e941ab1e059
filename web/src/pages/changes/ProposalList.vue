<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, onScopeDispose, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Proposal, type ServiceConflict } from '../../api/client'
import DifferenceTable from '../../components/DifferenceTable.vue'
import { words } from '../../composables/conflict'
import { useMe } from '../../composables/useMe'
import { useQuery } from '../../composables/useQuery'
import { useTogether } from '../../composables/useTogether'
import { time } from '../../time'

// What is proposed at the left; the one that is chosen beside it: what it changes, what others changed since, and what is said of it.
const { t } = useI18n()
const who = useMe()
const chosen = useQuery('proposal')
const list = ref<Proposal[]>()
const one = ref<Proposal>()
const problem = ref('')
const text = ref('')
const busy = ref(false)

async function load() {
  try {
    list.value = await api.proposals('')
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
void load()
const id = computed(() => Number(chosen.value || list.value?.[0]?.id || 0))
async function loadOne() {
  try {
    one.value = id.value ? await api.proposal(id.value) : undefined
  } catch (error) {
    problem.value = message(error)
  }
}
watch(id, loadOne, { immediate: true })
onScopeDispose(
  useTogether().follow(() => {
    void load()
    void loadOne() // what it conflicts with may be otherwise
  }),
)

const key = (c: ServiceConflict) => [c.kind, c.name, c.field].filter(Boolean).join(' ')
const choice = ref<Record<string, 'mine' | 'theirs'>>({})
watch(one, (p) => (choice.value = Object.fromEntries((p?.conflicts ?? []).map((c) => [key(c), choice.value[key(c)]!]))))
const undecided = computed(() => (one.value?.conflicts ?? []).some((c) => !choice.value[key(c)]))

async function done(f: () => Promise<unknown>, said?: string) {
  busy.value = true
  try {
    await f()
    if (said) ElMessage.success(said)
    await load()
    await loadOne()
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
    await loadOne()
  }
  busy.value = false
}
const take = () => done(() => api.takeProposal(id.value, { choose: choice.value }), t('proposals.taken-over', { title: one.value!.title }))
const drop = () => done(() => api.dropProposal(id.value))
async function comment() {
  await done(() => api.comment(id.value, text.value))
  text.value = ''
}
const own = computed(() => one.value?.who === who.person)
</script>

<template>
  <el-alert v-if="problem" :title="problem" type="error" show-icon @close="problem = ''" />
  <div class="columns fill">
    <div class="panel fill proposals">
      <el-table v-if="list" :data="list" height="100%" size="small" :empty-text="t('proposals.none')" highlight-current-row @row-click="(row: Proposal) => (chosen = String(row.id))">
        <el-table-column prop="id" label="#" width="50" align="right" />
        <el-table-column :label="t('proposals.proposal')" min-width="150"><template #default="{ row }"><b>{{ row.title }}</b><div class="quiet">{{ row.who }}, {{ time(row.time) }}</div></template></el-table-column>
        <el-table-column :label="t('proposals.state')" width="100"><template #default="{ row }">{{ t(`proposals.states.${row.state}`) }}</template></el-table-column>
      </el-table>
    </div>
    <div v-if="one" class="panel fill one" data-test="proposal">
      <div class="page-bar">
        <h2>{{ one.title }}</h2>
        <span class="quiet">{{ t(`proposals.states.${one.state}`) }}<template v-if="one.decided_by">, {{ one.decided_by }}</template></span>
        <span class="grow" />
        <template v-if="one.state === 'open'">
          <el-button v-if="own || who.may('engineer')" size="small" :loading="busy" data-test="proposal-drop" @click="drop">{{ t('proposals.drop') }}</el-button>
          <el-button v-if="who.may('engineer')" size="small" type="primary" :loading="busy" :disabled="undecided" data-test="proposal-take" @click="take">{{ t('proposals.take') }}</el-button>
        </template>
      </div>
      <div v-if="(one.conflicts ?? []).length > 0" class="conflicts" data-test="proposal-conflicts">
        <b>{{ t('proposals.conflicts') }}</b>
        <div v-for="c in one.conflicts" :key="key(c)" class="conflict">
          <span>{{ t(`kinds.${c.kind}`) }} {{ c.name }} <i>{{ c.field }}</i></span>
          <el-radio-group v-model="choice[key(c)]" size="small">
            <el-radio value="theirs">{{ t('proposals.is-now') }}: {{ words(c.theirs) }}</el-radio>
            <el-radio value="mine">{{ t('proposals.would-be') }}: {{ words(c.mine) }}</el-radio>
          </el-radio-group>
        </div>
      </div>
      <div class="fill"><DifferenceTable :items="one.changes ?? []" :to="t('proposals.would-be')" /></div>
      <div class="comments">
        <div v-for="(c, i) in one.comments" :key="i"><b>{{ c.who }}</b> <span class="quiet">{{ time(c.time) }}</span> {{ c.text }}</div>
        <form @submit.prevent="comment">
          <el-input v-model="text" size="small" :placeholder="t('proposals.say')" :aria-label="t('proposals.say')" data-test="proposal-say" />
          <el-button size="small" native-type="submit" :disabled="!text.trim()">{{ t('proposals.send') }}</el-button>
        </form>
      </div>
    </div>
  </div>
</template>

<style scoped>
.proposals {
  flex: 1 1 300px;
  max-width: 420px;
}
.one {
  flex: 2 1 420px;
  display: flex;
  flex-direction: column;
  gap: 10px;
  padding: 12px 14px;
}
h2 {
  margin: 0;
  font-size: 16px;
}
.conflicts {
  padding: 8px 10px;
  border-left: 4px solid var(--uncertain);
  background: var(--el-color-warning-light-9);
}
.conflict {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 16px;
}
.comments > div {
  padding: 2px 0;
}
form {
  display: flex;
  gap: 8px;
  margin-top: 6px;
}
</style>
