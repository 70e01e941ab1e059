<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

const { t, te } = useI18n()

// The state of a link or station as a shape and a word.
const props = defineProps<{ state: string; reason?: string; doing?: string }>()
const tone = computed(() => {
  if (props.state === 'up' || props.state === 'answering') return 'good'
  if (props.state === 'down' || props.state === 'silent') return 'bad'
  return 'idle'
})
</script>

<template>
  <span class="mark-word" :class="tone" :title="reason || undefined">
    <svg viewBox="0 0 14 14" width="13" height="13" aria-hidden="true">
      <circle v-if="tone === 'good'" cx="7" cy="7" r="5" fill="currentColor" />
      <path v-else-if="tone === 'bad'" d="M3 3l8 8M11 3l-8 8" stroke="currentColor" stroke-width="2.6" stroke-linecap="round" />
      <circle v-else cx="7" cy="7" r="4.4" fill="none" stroke="currentColor" stroke-width="1.6" stroke-dasharray="2.4 2" />
    </svg>
    <span>{{ te(`state.${state}`) ? t(`state.${state}`) : state }}<template v-if="doing">, {{ doing }}</template></span>
  </span>
</template>
