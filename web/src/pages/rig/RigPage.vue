<script setup lang="ts">
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Faults, type LineState } from '../../api/client'
import { useEvery } from '../../composables/useEvery'
import { useMe } from '../../composables/useMe'
import FaultEditor from './FaultEditor.vue'
import { useSite } from '../../composables/useSite'
import { spoken } from './faults'

const { t } = useI18n()
const who = useMe()

const site = useSite()

const lines = ref<LineState[]>([])
const problem = ref('')

async function load() {
  try {
    lines.value = (await api.rig()).lines
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
useEvery(2000, load)

async function change(line: string, unit: number, faults: object) {
  try {
    await api.setFaults(line, unit, faults)
  } catch (error) {
    problem.value = message(error)
  }
  await load()
}
async function cut(line: LineState) {
  try {
    lines.value = (await api.cutLine(line.name, !line.cut)).lines
  } catch (error) {
    problem.value = message(error)
  }
}
const none = (faults: Faults) => spoken(faults).length === 0
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('rig.rig') }}</h1>
      <span class="quiet">{{ t('rig.the-simulated-devices-and-what-goes') }}</span>
    </div>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <section v-for="line in lines" :key="line.name" class="panel">
      <div class="line">
        <b>{{ line.name }}</b>
        <span class="quiet">{{ t('links.over', { what: line.framing || line.protocol, transport: line.transport }) }}</span>
        <span class="mono quiet">{{ line.listen }}</span>
        <span class="grow" />
        <el-button v-if="who.may('engineer')" size="small" :type="line.cut ? 'warning' : ''" :data-test="`cut-${line.name}`" @click="cut(line)">{{ t(line.cut ? 'rig.restore' : 'rig.cut') }}</el-button>
      </div>
      <div v-for="s in line.stations" :key="s.unit" class="station" :data-test="`rig-${line.name}-${s.unit}`">
        <span class="unit">{{ site.protocol(line.protocol)?.address }} {{ s.unit }}</span>
        <span class="name">{{ s.name || '' }}<span v-if="s.number" class="quiet"> at {{ s.number }}</span></span>
        <span class="faults">
          <span v-if="none(s.faults)" class="quiet">{{ t('rig.works-as-it-should') }}</span>
          <el-tag v-for="f in spoken(s.faults)" :key="f.name" :closable="who.may('engineer')" type="warning" effect="plain" @close="change(line.name, s.unit, { [f.name]: null })">{{ f.text }}</el-tag>
        </span>
        <FaultEditor v-if="who.may('engineer')" :line="line" @set="(faults) => change(line.name, s.unit, faults)" />
      </div>
    </section>
  </div>
</template>

<style scoped>
.line,
.station {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 12px;
  padding: 9px 14px;
}
.station {
  border-top: 1px solid var(--el-border-color-lighter);
}
.grow {
  flex: 1;
}
.unit {
  width: 96px;
}
.name {
  width: 190px;
}
.faults {
  flex: 1;
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}
</style>
