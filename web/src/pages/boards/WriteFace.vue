<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Point, Reading } from '../../api/client'
import { useWrite } from '../../composables/useWrite'
import { namesOf, rangeOf, type Display } from './display'

// What writes a point: each asks once before it does, and tells what came of it.
const props = defineProps<{ display: Display; point: Point; reading?: Reading; disabled: boolean }>()
const { t } = useI18n()
const { busy, result, problem, write } = useWrite()

const bool = computed(() => props.point.type === 'bool')
const names = computed(() => namesOf(props.point))
const on = computed(() => props.reading?.quality !== 'bad' && (props.reading?.value === true || props.reading?.value === 1))
const nameOf = (n: number) => names.value.find(([m]) => m === n)?.[1] ?? (n ? t('boards.on') : t('boards.off'))
const label = (n: number) => props.display.labels?.[n] || nameOf(n)
const known = computed(() => props.reading !== undefined && props.reading.quality !== 'bad')
const number = computed(() => (typeof props.reading?.value === 'number' ? props.reading.value : 0))
const ends = computed(() => rangeOf(props.point, number.value))
const step = computed(() => (props.point.decimals != null ? 10 ** -props.point.decimals : (ends.value[1] - ends.value[0]) / 200))

const slid = ref<number>()
const typed = ref('')
const slider = computed({ get: () => slid.value ?? number.value, set: (v: number) => (slid.value = v) })
async function send(value: unknown, shown?: string) {
  await write(props.point, value, shown)
  slid.value = undefined
}
async function enter() {
  if (typed.value.trim() === '') return
  await send(typed.value.trim())
  typed.value = ''
}
watch(result, (r) => {
  if (r && r.outcome !== 'done') ElMessage({ type: r.outcome === 'refused' ? 'error' : 'warning', message: `${r.tag}: ${r.outcome}. ${r.message}`, duration: 10000, showClose: true })
})
watch(problem, (text) => text && ElMessage({ type: 'error', message: `${props.point.tag}: ${text}`, duration: 10000, showClose: true }))
</script>

<template>
  <div class="face" :data-face="display.show">
    <button v-if="display.show === 'switch'" type="button" class="switch" role="switch" :aria-checked="known ? on : undefined" :disabled="disabled || busy || !known" :class="{ on, unknown: !known }" @click="send(bool ? !on : on ? 0 : 1, nameOf(on ? 0 : 1))">
      <span class="knob" />
      <span class="word">{{ known ? nameOf(on ? 1 : 0) : t('boards.not-known') }}</span>
    </button>
    <div v-else-if="display.show === 'button'" class="two">
      <button v-for="n in [0, 1]" :key="n" type="button" :disabled="disabled || busy" :class="{ is: known && on === Boolean(n) }" :aria-pressed="known && on === Boolean(n)" @click="send(bool ? Boolean(n) : n, nameOf(n))">{{ label(n) }}</button>
    </div>
    <button v-else-if="display.show === 'push'" type="button" class="push" :disabled="disabled || busy" @click="send(bool ? true : 1, nameOf(1))">{{ display.labels?.[0] || nameOf(1) }}</button>
    <div v-else-if="display.show === 'slider'" class="slide">
      <span class="number">{{ slid !== undefined ? `→ ${slid} ${point.unit ?? ''}` : known ? `${reading?.text} ${point.unit ?? ''}` : t('boards.not-known') }}</span>
      <el-slider v-model="slider" :min="ends[0]" :max="ends[1]" :step="step" :disabled="disabled || busy" :show-tooltip="false" :aria-label="point.tag" @change="(v: unknown) => send(v)" />
    </div>
    <form v-else-if="display.show === 'entry'" class="entry" @submit.prevent="enter">
      <span class="number value">{{ known ? `${reading?.text} ${point.unit ?? ''}` : t('boards.not-known') }}</span>
      <div><el-input v-model="typed" :disabled="disabled || busy" :placeholder="t('boards.new')" :aria-label="t('boards.new-of', { tag: point.tag })" inputmode="decimal" /><el-button native-type="submit" :disabled="disabled || busy || typed.trim() === ''">{{ t('boards.set') }}</el-button></div>
    </form>
    <el-select v-else :model-value="known ? reading?.text : ''" :disabled="disabled || busy" :placeholder="t('boards.not-known')" size="large" :aria-label="point.tag" @change="(name: string) => send(name)"><el-option v-for="[n, name] in names" :key="n" :value="name" :label="name" /></el-select>
  </div>
</template>

<style scoped>
.face {
  height: 100%;
  display: flex;
  flex-direction: column;
  justify-content: center;
  min-height: 0;
}
button {
  font: inherit;
  min-height: 40px;
  color: inherit;
  background: var(--el-fill-color-light);
  border: 1px solid var(--el-border-color);
  border-radius: 6px;
  cursor: pointer;
}
button:disabled {
  cursor: not-allowed;
  opacity: 0.6;
}
.switch {
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 4px 10px;
  border-radius: 22px;
}
.switch .knob {
  width: 26px;
  height: 26px;
  border-radius: 50%;
  background: var(--el-bg-color);
  border: 2px solid var(--idle);
}
.switch.on {
  flex-direction: row-reverse;
  background: var(--el-color-primary-light-8);
}
.switch.on .knob {
  border: 7px solid var(--el-color-primary);
}
.switch.unknown .knob {
  border-style: dashed;
}
.word {
  flex: 1;
  text-align: center;
  font-weight: 600;
}
.two {
  display: flex;
  gap: 6px;
}
.two button {
  flex: 1;
}
.two .is {
  border: 2px solid var(--el-color-primary);
  font-weight: 600;
  background: var(--el-color-primary-light-9);
}
.push {
  font-weight: 600;
  border-bottom-width: 4px;
}
.entry > div {
  display: flex;
  gap: 6px;
}
.value {
  font-size: 18px;
  font-weight: 600;
}
.slide {
  padding: 0 10px;
}
</style>
