<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { faultsOn, type Line } from './faults'

// Chooses a fault and switches it on.
const props = defineProps<{ line: Line }>()
const emit = defineEmits<{ set: [faults: object] }>()

const name = ref('')
const value = ref('')
const choices = computed(() => faultsOn(props.line))
const chosen = computed(() => choices.value.find((f) => f.name === name.value))
watch(chosen, (f) => (value.value = f?.value ?? ''))

function set() {
  const whole = /^\d+$/.test(value.value)
  emit('set', { [name.value]: chosen.value?.value ? (whole ? Number(value.value) : value.value) : true })
  name.value = ''
}
</script>

<template>
  <span class="editor">
    <el-select v-model="name" size="small" placeholder="a fault…" style="width: 230px" data-test="fault"><el-option v-for="f in choices" :key="f.name" :value="f.name" :label="`${f.name}: ${f.does}`" /></el-select>
    <el-input v-if="chosen?.value" v-model="value" size="small" style="width: 80px" name="fault-value" />
    <el-button size="small" :disabled="!name" data-test="switch-on" @click="set">Switch on</el-button>
  </span>
</template>

<style scoped>
.editor {
  display: inline-flex;
  gap: 6px;
}
</style>
