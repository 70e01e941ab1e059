<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { onScopeDispose, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type ChangeRecord, type Kind, type Note } from '../api/client'
import { words } from '../composables/conflict'
import { useMe } from '../composables/useMe'
import { useNotes } from '../composables/useNotes'
import { useTogether } from '../composables/useTogether'
import { time } from '../time'

// What stands below the form of an entity: notes at it, and what was changed of it.
const props = defineProps<{ kind: Kind; name: string }>()
const { t } = useI18n()
const who = useMe()
const together = useTogether()

const notes = ref<Note[]>([])
const marks = useNotes()
const text = ref('')
const history = ref<ChangeRecord[]>()
const open = ref<string[]>([])

async function loadNotes() {
  try {
    notes.value = await api.notes({ kind: props.kind, name: props.name })
    void marks.load()
  } catch (error) {
    ElMessage.error(message(error))
  }
}
async function loadHistory() {
  try {
    history.value = await api.changesOf(props.kind, props.name, 50)
  } catch (error) {
    ElMessage.error(message(error))
  }
}
watch(
  () => props.name,
  () => {
    history.value = undefined
    void loadNotes()
    if (open.value.includes('history')) void loadHistory()
    together.edits(props.kind, props.name)
  },
  { immediate: true },
)
onScopeDispose(() => together.edits())
watch(open, (now) => {
  if (now.includes('history') && !history.value) void loadHistory()
})
onScopeDispose(
  together.follow((news) => {
    if (history.value && news.touches(props.kind, props.name)) void loadHistory()
  }),
)
async function add() {
  try {
    await api.addNote(props.kind, props.name, text.value)
    text.value = ''
    await loadNotes()
  } catch (error) {
    ElMessage.error(message(error))
  }
}
async function close(n: Note) {
  try {
    await api.closeNote(n.id, !n.done_by)
    await loadNotes()
  } catch (error) {
    ElMessage.error(message(error))
  }
}
type Fields = Record<string, unknown>
const differing = (c: ChangeRecord) => {
  const before = (c.before ?? {}) as Fields
  const after = (c.after ?? {}) as Fields
  return Object.keys({ ...before, ...after }).filter((k) => JSON.stringify(before[k]) !== JSON.stringify(after[k]))
}
const value = (e: unknown, field: string) => words((e as Fields | undefined)?.[field])
</script>

<template>
  <div class="aside">
    <section class="notes">
      <h3>{{ t('notes.notes') }}</h3>
      <div v-for="n in notes" :key="n.id" class="note" :class="{ done: n.done_by }" data-test="note">
        <el-checkbox :model-value="Boolean(n.done_by)" :disabled="!who.may('operator')" :aria-label="t('notes.done')" @change="close(n)" />
        <div>
          <div class="text">{{ n.text }}</div>
          <div class="quiet small">{{ n.who }}, {{ time(n.time) }}<template v-if="n.done_by">; {{ t('notes.done-by', { who: n.done_by }) }}</template></div>
        </div>
      </div>
      <form v-if="who.may('operator')" class="new" @submit.prevent="add">
        <el-input v-model="text" size="small" :placeholder="t('notes.write')" :aria-label="t('notes.write')" data-test="note-text" />
        <el-button size="small" native-type="submit" :disabled="!text.trim()" data-test="note-add">{{ t('notes.add') }}</el-button>
      </form>
    </section>
    <el-collapse v-model="open">
      <el-collapse-item :title="t('changes.history')" name="history" data-test="history">
        <div v-for="c in history" :key="c.id" class="past">
          <div class="quiet small">{{ time(c.time) }} · {{ c.who }} · {{ t(`changes.act.${c.action}`) }}<template v-if="c.message"> · {{ c.message }}</template></div>
          <template v-if="c.action === 'change'">
            <div v-for="f in differing(c)" :key="f" class="mono">{{ f }}: <span class="quiet">{{ value(c.before, f) }}</span> → {{ value(c.after, f) }}</div>
          </template>
        </div>
      </el-collapse-item>
    </el-collapse>
  </div>
</template>

<style scoped>
.aside {
  margin-top: 20px;
  border-top: 1px solid var(--el-border-color-lighter);
  padding-top: 12px;
}
h3 {
  margin: 0 0 6px;
  font-size: 14px;
}
.note {
  display: flex;
  gap: 8px;
  padding: 3px 0;
}
.note .text {
  white-space: pre-line;
}
.note.done .text {
  text-decoration: line-through;
  color: var(--el-text-color-secondary);
}
.small {
  font-size: 12px;
}
.new {
  display: flex;
  gap: 8px;
  margin: 6px 0 10px;
}
.past {
  padding: 4px 0;
}
</style>
