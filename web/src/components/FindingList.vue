<script setup lang="ts">
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, type Finding, type Mending, type Watch } from '../api/client'
import { useEvery } from '../composables/useEvery'
import { useMe } from '../composables/useMe'
import { useSteps } from '../composables/useSteps'
import { cause } from '../language'
import { age } from '../time'
import DrawnValue from './DrawnValue.vue'

// What is wrong with communication: of everything, or what helps with one link, station or point.
const props = defineProps<{ subject?: string; always?: boolean }>()
const { t } = useI18n()
const who = useMe()
const list = ref<Finding[]>([])
const watching = ref<Watch[]>([])
const taken = ref<Mending[]>([])
const now = ref(Date.now())
const loaded = ref(false)

async function load() {
  try {
    const all = await api.findings(props.subject)
    list.value = all.items
    watching.value = all.watching
    taken.value = all.taken
    loaded.value = true
  } catch {
    // the page says that the service does not answer
  }
  now.value = Date.now()
}
useEvery(2000, load)
const { change, open, act, takeBack } = useSteps(load)

const marks = { checking: '…', mended: '✓', 'not-mended': '✕', 'taken-back': '↶' }
/** What a step asks that only looks, so that everybody may. */
const looks = ['traffic', 'frames', 'wrong-frames', 'explain']
const pages = { link: '/links', station: '/stations', point: '/live' }
</script>

<template>
  <div v-if="always && loaded && list.length + watching.length === 0" class="watching well" data-test="no-finding">{{ t('findings.none') }}</div>
  <div v-for="m in taken" :key="m.time" class="watching" :class="{ well: m.state === 'mended' }" :data-test="`taken-${m.state}`">
    {{ marks[m.state] }} {{ m.text }}
    <el-button v-if="m.change && m.state === 'not-mended' && who.may('engineer')" size="small" plain data-test="take-back" @click="takeBack(m.change)">{{ t('changes.take-back') }}</el-button>
  </div>
  <div v-for="w in watching" :key="w.station" class="watching" data-test="watching">{{ w.text }}</div>
  <section v-for="f in list" :key="f.code + f.subject" class="finding" :data-test="`finding-${f.code}`">
    <div class="cause">
      <svg viewBox="0 0 14 14" width="14" height="14" aria-hidden="true"><path d="M7 1l6 12H1z" fill="none" stroke="currentColor" stroke-width="1.6" /><path d="M7 5v4M7 10.6v1" stroke="currentColor" stroke-width="1.6" /></svg>
      <b>{{ cause(f) }}</b>
    </div>
    <div class="quiet">
      <span v-if="f.kind === 'service'">{{ t('kinds.service') }}: {{ f.subject }}</span>
      <router-link v-else :to="{ path: pages[f.kind], query: { [f.kind]: f.subject } }">{{ t(`kinds.${f.kind}`) }} {{ f.subject }}</router-link>
      · {{ f.code }} · {{ t('findings.certain', { n: Math.round(100 * f.certainty) }) }} · {{ t('findings.for', { age: age(f.since, now) }) }}
      <template v-if="f.kind !== 'service'">· </template><router-link v-if="f.kind !== 'service'" :to="{ path: '/traffic', query: f.kind === 'link' ? { link: f.subject } : f.kind === 'station' ? { station: f.subject } : {} }">{{ t('findings.frames') }}</router-link>
    </div>
    <ul class="seen">
      <li v-for="e in f.evidence.filter(Boolean)" :key="e">{{ e }}</li>
    </ul>
    <DrawnValue v-for="d in subject ? [] : (f.drawn ?? [])" :key="d.tag" :drawing="d" />
    <ol>
      <li v-for="(step, index) in f.next" :key="step.text">
        {{ step.text }}
        <template v-if="step.change && who.may('engineer')">
          <el-button size="small" type="primary" plain data-test="take-step" @click="change(f, index)">{{ t('findings.change') }}…</el-button>
          <el-button size="small" text data-test="open-form" @click="open(step)">{{ t('findings.form') }}</el-button>
        </template>
        <el-button v-if="step.action && (who.may('engineer') || looks.includes(step.action.verb))" size="small" plain :data-test="`act-${step.action.verb}`" @click="act(step)">{{ t(`findings.verbs.${step.action.verb}`) }}</el-button>
      </li>
    </ol>
  </section>
</template>

<style scoped>
.watching {
  background: var(--el-bg-color);
  border: 1px dashed var(--el-border-color);
  border-radius: 8px;
  padding: 8px 14px;
}
.well {
  border-style: solid;
}
.finding {
  background: var(--el-bg-color);
  border: 1px solid var(--el-border-color-lighter);
  border-left: 5px solid var(--uncertain);
  border-radius: 8px;
  padding: 10px 14px;
}
.cause {
  display: flex;
  align-items: flex-start;
  gap: 8px;
}
.cause svg {
  color: var(--uncertain);
  flex: none;
  margin-top: 3px;
}
.seen {
  margin: 6px 0 4px;
  padding-left: 22px;
  color: var(--el-text-color-regular);
}
ol {
  margin: 0;
  padding-left: 22px;
  line-height: 1.9;
}
a {
  color: var(--el-color-primary);
}
</style>
