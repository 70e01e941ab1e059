<script setup lang="ts">
import { useI18n } from 'vue-i18n'

const { t } = useI18n()
// A quality as a shape, a word and a reason, so that it never depends on colour.
defineProps<{ quality: 'good' | 'uncertain' | 'bad'; reason?: string; explanation?: string }>()
</script>

<template>
  <span class="mark-word" :class="quality" :title="explanation || undefined">
    <svg viewBox="0 0 14 14" width="13" height="13" aria-hidden="true">
      <circle v-if="quality === 'good'" cx="7" cy="7" r="5" fill="currentColor" />
      <path v-else-if="quality === 'uncertain'" d="M7 2a5 5 0 0 0 0 10z M7 2.8a4.2 4.2 0 0 1 0 8.4" fill="currentColor" fill-rule="evenodd" stroke="currentColor" stroke-width="1.4" />
      <path v-else d="M3 3l8 8M11 3l-8 8" stroke="currentColor" stroke-width="2.6" stroke-linecap="round" />
    </svg>
    <span>{{ t(`quality.${quality}`) }}<template v-if="reason"> ({{ reason }})</template></span>
  </span>
</template>
