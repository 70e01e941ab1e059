<script setup lang="ts">
import { useI18n } from 'vue-i18n'

// The state of an alarm, by shape and word: a filled triangle while it is active, an open one once somebody knows, a ring when it is gone.
defineProps<{ state: string; severity: number; unknown?: boolean }>()
const { t } = useI18n()
</script>

<template>
  <span class="alarm-mark" :class="[state || 'within', { urgent: severity <= 2 }]" :data-state="state">
    <svg viewBox="0 0 14 14" width="14" height="14" aria-hidden="true">
      <path v-if="state === 'active'" d="M7 1l6 12H1z" fill="currentColor" />
      <path v-else-if="state === 'acknowledged'" d="M7 2l5 10H2z" fill="none" stroke="currentColor" stroke-width="1.6" />
      <circle v-else-if="state === 'gone'" cx="7" cy="7" r="5" fill="none" stroke="currentColor" stroke-width="1.6" />
      <path v-else d="M2 7l3.5 4L12 3" fill="none" stroke="currentColor" stroke-width="1.6" />
    </svg>
    {{ t(`alarms.states.${state || 'within'}`) }}<template v-if="unknown">, {{ t('alarms.not-known') }}</template>
  </span>
</template>

<style scoped>
.alarm-mark {
  display: inline-flex;
  align-items: center;
  gap: 6px;
  white-space: nowrap;
}
.active {
  color: var(--bad);
  font-weight: 600;
}
.acknowledged,
.gone {
  color: var(--uncertain);
}
.within {
  color: var(--good);
}
</style>
