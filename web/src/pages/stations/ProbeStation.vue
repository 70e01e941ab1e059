<script setup lang="ts">
import { onScopeDispose, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { follow, message, type Stage } from '../../api/client'
import { useAsked } from '../../composables/useAsked'
import TakeOver from './TakeOver.vue'

const { t } = useI18n()

// Asks the device what it is; its stages show as they pass.
const props = defineProps<{ station: string }>()
const stages = ref<Stage[]>([])
const busy = ref(false)
const problem = ref('')
let stop = new AbortController()
onScopeDispose(() => stop.abort())

async function probe() {
  stop = new AbortController()
  stages.value = []
  problem.value = ''
  busy.value = true
  try {
    await follow<Stage>('/api/v1/probe', { station: props.station }, (s) => stages.value.push(s), stop.signal)
  } catch (error) {
    if (!stop.signal.aborted) problem.value = message(error)
  }
  busy.value = false
}
useAsked({ probe: () => void probe() })
</script>

<template>
  <div class="probe">
    <el-button :loading="busy" :title="t('stations.its-polls-pause-meanwhile')" data-test="probe" @click="probe">{{ t('stations.probe-it-stage-by-stage') }}</el-button>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <ol v-if="stages.length > 0" data-test="probe-stages">
      <li v-for="s in stages" :key="s.name" :class="s.ok ? 'good' : 'bad'">
        <b>{{ s.ok ? '●' : '✕' }} {{ s.name }}</b> <span class="text">{{ s.text }}</span> <span class="quiet number">{{ s.took_ms.toFixed(1) }} ms</span>
        <div v-if="s.templates?.length" class="templates" data-test="probe-templates">{{ t('templates.for-such') }} <router-link v-for="name in s.templates" :key="name" :to="{ path: '/templates', query: { template: name } }">{{ name }}</router-link></div>
      </li>
    </ol>
    <template v-for="s in stages" :key="s.name"><TakeOver v-if="s.points && s.points.length > 0" :station="station" :points="s.points" /></template>
  </div>
</template>

<style scoped>
.probe {
  margin: 10px 0;
}
ol {
  list-style: none;
  margin: 8px 0;
  padding: 0;
  line-height: 1.6;
}
.templates {
  padding-left: 18px;
}
.good b {
  color: var(--good);
}
.bad b {
  color: var(--bad);
}
.text {
  overflow-wrap: anywhere;
}
</style>
