<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import type { LineState } from '../../api/client'

const { t } = useI18n()

// Chooses a fault and switches it on.
const props = defineProps<{ line: LineState }>()
const emit = defineEmits<{ set: [faults: object] }>()

const name = ref('')
const value = ref('')
const chosen = computed(() => props.line.possible.find((f) => f.name === name.value))
watch(chosen, (f) => (value.value = f?.example ?? ''))

function set() {
  const whole = /^\d+$/.test(value.value)
  emit('set', { [name.value]: chosen.value?.example ? (whole ? Number(value.value) : value.value) : true })
  name.value = ''
}
</script>

<template>
  <span class="editor">
    <el-select v-model="name" size="small" :placeholder="t('rig.a-fault')" style="width: 230px" data-test="fault"><el-option v-for="f in line.possible" :key="f.name" :value="f.name" :label="`${f.name}: ${f.text}`" /></el-select>
    <el-input v-if="chosen?.example" v-model="value" size="small" style="width: 80px" name="fault-value" />
    <el-button size="small" :disabled="!name" data-test="switch-on" @click="set">{{ t('rig.switch-on') }}</el-button>
  </span>
</template>

<style scoped>
.editor {
  display: inline-flex;
  gap: 6px;
}
</style>
