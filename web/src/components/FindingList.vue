<script setup lang="ts">
import { ElMessage, ElMessageBox } from 'element-plus'
import { ref } from 'vue'

import { api, message, type Finding, type FindingStep, type Watch } from '../api/client'
import { useEvery } from '../composables/useEvery'
import { age } from '../format'

// What is wrong with communication: of everything, or what helps with one link, station or point.
const props = defineProps<{ subject?: string }>()
const list = ref<Finding[]>([])
const watching = ref<Watch[]>([])
const now = ref(Date.now())

async function load() {
  try {
    const all = await api.findings(props.subject)
    list.value = all.items
    watching.value = all.watching
  } catch {
    // the page says that the service does not answer
  }
  now.value = Date.now()
}
useEvery(2000, load)

const pages = { link: '/links', station: '/stations', point: '/live' }

/** Takes a step that is a change of settings, shown before it is done. */
async function take(step: FindingStep) {
  const change = step.change
  if (!change) return
  const what = Object.entries(change.fields)
    .map(([field, value]) => `${field}: ${typeof value === 'object' ? JSON.stringify(value) : String(value)}`)
    .join('\n')
  try {
    await ElMessageBox.confirm(`${change.kind} ${change.name} will be set to\n${what}\nIt is recorded, and the Changes page takes it back.`, step.text, { confirmButtonText: 'Change it', cancelButtonText: 'Leave it' })
  } catch {
    return
  }
  try {
    await api.set(change.kind, change.name, change.fields)
    ElMessage.success(`${change.name} is changed`)
    await load()
  } catch (error) {
    ElMessage.error(message(error))
  }
}
</script>

<template>
  <div v-for="w in watching" :key="w.station" class="watching" data-test="watching">{{ w.text }}</div>
  <section v-for="f in list" :key="f.code + f.subject" class="finding" :data-test="`finding-${f.code}`">
    <div class="cause">
      <svg viewBox="0 0 14 14" width="14" height="14" aria-hidden="true"><path d="M7 1l6 12H1z" fill="none" stroke="currentColor" stroke-width="1.6" /><path d="M7 5v4M7 10.6v1" stroke="currentColor" stroke-width="1.6" /></svg>
      <b>{{ f.cause }}</b>
    </div>
    <div class="quiet">
      <router-link :to="{ path: pages[f.kind], query: { [f.kind]: f.subject } }">{{ f.kind }} {{ f.subject }}</router-link>
      · {{ f.code }} · {{ Math.round(100 * f.certainty) }} % certain · for {{ age(f.since, now) }}
      · <router-link :to="{ path: '/traffic', query: f.kind === 'link' ? { link: f.subject } : f.kind === 'station' ? { station: f.subject } : {} }">its frames</router-link>
    </div>
    <ul class="seen">
      <li v-for="e in f.evidence.filter(Boolean)" :key="e">{{ e }}</li>
    </ul>
    <ol>
      <li v-for="step in f.next" :key="step.text">
        {{ step.text }}
        <el-button v-if="step.change" size="small" type="primary" plain data-test="take-step" @click="take(step)">Change it…</el-button>
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
  line-height: 1.75;
}
a {
  color: var(--el-color-primary);
}
</style>
