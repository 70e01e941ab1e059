<script setup lang="ts">
import { ChatLineSquare } from '@element-plus/icons-vue'
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Kind } from '../api/client'
import { useNotes } from '../composables/useNotes'

// A mark beside the name of what has open notes, with what they say.
const props = defineProps<{ kind: Kind; name: string }>()
const { t } = useI18n()
const notes = useNotes()
const open = computed(() => notes.at(props.kind, props.name))
</script>

<template>
  <el-tooltip v-if="open.length > 0" placement="top">
    <template #content><div v-for="n in open" :key="n.id">{{ n.who }}: {{ n.text }}</div></template>
    <span class="note-mark" role="img" :aria-label="t('notes.open', { n: open.length }, open.length)" data-test="note-mark"><el-icon><ChatLineSquare /></el-icon>{{ open.length > 1 ? open.length : '' }}</span>
  </el-tooltip>
</template>

<style scoped>
.note-mark {
  display: inline-flex;
  align-items: center;
  gap: 2px;
  margin-left: 6px;
  vertical-align: -2px;
  color: var(--uncertain);
}
</style>
