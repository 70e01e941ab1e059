<script setup lang="ts">
import { DArrowLeft, DArrowRight, Moon, Search, Sunny } from '@element-plus/icons-vue'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { useAlarms } from '../composables/useAlarms'
import { useLook } from '../composables/useLook'
import { useService } from '../composables/useService'
import { i18n, languages, speak, type Language } from '../language'
import { groups } from '../router'
import PeopleHere from './PeopleHere.vue'

// The pages in the order of the job, with counts that matter; wide: as it is in a drawer, never narrow.
const props = defineProps<{ wide?: boolean }>()
const emit = defineEmits<{ search: [] }>()

const { t } = useI18n()
const service = useService()
const alarms = useAlarms()
const { dark, change } = useLook()

const stored = ref(localStorage.getItem('rail') === 'narrow')
const narrow = computed(() => stored.value && !props.wide)
function fold() {
  stored.value = !stored.value
  localStorage.setItem('rail', stored.value ? 'narrow' : 'wide')
}

const shown = computed(() => groups.map((g) => ({ ...g, pages: g.pages.filter((p) => service.simulated || p.name !== 'rig') })))
const counts = computed<Record<string, { n: number; bad: boolean }>>(() => ({
  live: { n: service.bad, bad: true },
  findings: { n: service.findings, bad: false },
  alarms: { n: alarms.counts.unacknowledged || alarms.counts.active, bad: alarms.counts.unacknowledged > 0 },
}))
const spoken = computed({
  get: () => i18n.global.locale.value as Language,
  set: speak,
})
</script>

<template>
  <aside class="app-rail" :class="{ narrow, wide }">
    <router-link to="/overview" class="mark" :title="narrow ? 'Arithmon' : undefined"><img src="/mark.svg" alt="" width="26" height="26" /><span v-if="!narrow">Arithmon</span></router-link>
    <button type="button" class="search" data-test="search" :aria-label="narrow ? t('frame.search') : undefined" @click="emit('search')">
      <el-icon><Search /></el-icon><template v-if="!narrow"><span>{{ t('frame.search') }}</span><kbd aria-hidden="true">Ctrl K</kbd></template>
    </button>
    <nav :aria-label="t('frame.pages')">
      <template v-for="group in shown" :key="group.name">
        <div v-if="!narrow" class="group">{{ t(`frame.${group.name}`) }}</div>
        <div v-else class="rule" />
        <router-link v-for="page in group.pages" :key="page.path" :to="page.path" :title="narrow ? t(`pages.${page.name}`) : undefined" :data-test="`page-${page.name}`">
          <el-icon><component :is="page.icon" /></el-icon>
          <span :class="{ hidden: narrow }">{{ t(`pages.${page.name}`) }}</span>
          <b v-if="counts[page.name]?.n" class="count" :class="{ bad: counts[page.name]?.bad }" :data-test="`count-${page.name}`">{{ counts[page.name]?.n }}<span class="hidden">{{ t(`frame.count-${page.name}`) }}</span></b>
        </router-link>
      </template>
    </nav>
    <div class="foot">
      <PeopleHere :narrow="narrow" />
      <div class="service" :class="{ lost: !service.answers }" :title="service.answers ? `${t('frame.runs')} ${service.version}` : t('frame.lost')" data-test="service">
        <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
          <circle v-if="service.answers" cx="6" cy="6" r="5" fill="currentColor" />
          <path v-else d="M2 2l8 8M10 2l-8 8" stroke="currentColor" stroke-width="2" />
        </svg>
        <span v-if="!narrow">{{ service.answers ? service.version : t('frame.lost') }}</span>
      </div>
      <select v-if="!narrow" v-model="spoken" :aria-label="t('frame.language')" data-test="language">
        <option v-for="(name, code) in languages" :key="code" :value="code">{{ name }}</option>
      </select>
      <button type="button" :aria-label="dark ? t('frame.light') : t('frame.dark')" @click="change"><el-icon><Sunny v-if="dark" /><Moon v-else /></el-icon></button>
      <button v-if="!wide" type="button" :aria-label="narrow ? t('frame.unfold') : t('frame.fold')" data-test="fold" @click="fold"><el-icon><DArrowRight v-if="narrow" /><DArrowLeft v-else /></el-icon></button>
    </div>
  </aside>
</template>

<style scoped>
.app-rail {
  display: flex;
  flex-direction: column;
  width: 212px;
  flex: none;
  height: 100%;
  overflow: hidden;
  box-sizing: border-box;
  padding: 10px 8px;
  background: var(--bar);
  color: var(--bar-text);
}
.app-rail.narrow {
  width: 58px;
}
.app-rail.wide {
  width: 100%;
}
.mark {
  display: flex;
  align-items: center;
  gap: 9px;
  padding: 4px 8px 10px;
  font-size: 16px;
  font-weight: 600;
  color: inherit;
  text-decoration: none;
}
button,
select {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  border-radius: 6px;
  cursor: pointer;
}
button:hover,
nav a:hover {
  background: rgb(255 255 255 / 10%);
}
.app-rail :focus-visible {
  outline: 2px solid #e8c170;
  outline-offset: -2px;
}
.search {
  display: flex;
  align-items: center;
  gap: 9px;
  padding: 7px 9px;
  background: rgb(255 255 255 / 8%);
}
.search span {
  flex: 1;
  text-align: left;
}
kbd {
  font: inherit;
  font-size: 11px;
  padding: 0 5px;
  border: 1px solid rgb(255 255 255 / 30%);
  border-radius: 4px;
}
nav {
  flex: 1;
  min-height: 0;
  overflow-y: auto;
  display: flex;
  flex-direction: column;
  gap: 1px;
}
.group {
  margin: 10px 9px 3px;
  font-size: 12px;
  color: #cfdcd8;
}
.rule {
  margin: 9px 10px;
  border-top: 1px solid rgb(255 255 255 / 18%);
}
nav a {
  position: relative;
  display: flex;
  align-items: center;
  gap: 10px;
  flex: none;
  min-height: 31px;
  padding: 0 9px;
  border-radius: 6px;
  border-left: 3px solid transparent;
  color: inherit;
  text-decoration: none;
}
nav a span {
  flex: 1;
}
nav a.router-link-active {
  background: rgb(255 255 255 / 14%);
  border-left-color: #e8c170;
  font-weight: 600;
}
.count {
  min-width: 18px;
  padding: 0 5px;
  border-radius: 9px;
  text-align: center;
  font-size: 12px;
  line-height: 18px;
  font-variant-numeric: tabular-nums;
  background: #e8c170;
  color: #23302f;
}
.count.bad {
  background: #f5b8ae;
}
.narrow .count {
  position: absolute;
  top: 1px;
  right: 0;
  line-height: 15px;
  font-size: 11px;
}
.hidden {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
  white-space: nowrap;
}
.foot {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px;
  margin-top: 10px;
}
.narrow .foot {
  flex-direction: column;
}
.foot button {
  width: 30px;
  height: 30px;
}
.foot select {
  height: 30px;
  max-width: 92px;
}
.foot option {
  color: #23302f;
}
.service {
  flex: 1 1 100%;
  display: flex;
  align-items: center;
  gap: 8px;
  min-width: 0;
  padding: 4px 9px;
  font-size: 12px;
  color: #a5d8b5;
}
.service span {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.service.lost {
  color: #f5b8ae;
}
</style>
