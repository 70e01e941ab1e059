<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Kind } from '../api/client'
import { useTogether } from '../composables/useTogether'

// Who changed an entity a moment ago, beside its name.
const props = defineProps<{ kind: Kind; name: string }>()
const { t } = useI18n()
const together = useTogether()
const who = computed(() => together.freshOf(props.kind, props.name))
</script>

<template>
  <span v-if="who" class="changed-by" data-test="changed-by">{{ t('people.changed-by', { who }) }}</span>
</template>

<style scoped>
.changed-by {
  margin-left: 8px;
  padding: 0 6px;
  border-radius: 8px;
  font-size: 12px;
  background: var(--el-color-warning-light-9);
  color: var(--uncertain);
  white-space: nowrap;
}
</style>
