<script setup lang="ts">
import { computed, nextTick, onScopeDispose, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'

import { api, backupURL, exportURL, type Point } from '../api/client'
import { useService } from '../composables/useService'
import { useSite } from '../composables/useSite'
import { pages } from '../router'

// Goes anywhere: to a page, a link, a station, a point, or does what a page offers. Ctrl-K opens it.
const open = defineModel<boolean>({ required: true })
const { t } = useI18n()
const router = useRouter()
const site = useSite()
const service = useService()

interface Goal {
  kind: string
  name: string
  about?: string
  go: () => void
}

const text = ref('')
const chosen = ref(0)
const box = ref<{ focus: () => void }>()
const found = ref<Point[]>([])
const most = 12

function key(event: KeyboardEvent) {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
    event.preventDefault()
    open.value = !open.value
  }
}
addEventListener('keydown', key)
onScopeDispose(() => removeEventListener('keydown', key))

watch(open, async (is) => {
  if (!is) return
  text.value = ''
  chosen.value = 0
  void site.loadLinks()
  void site.loadStations()
  await nextTick()
  box.value?.focus()
})

let asked = 0
watch(text, async (typed) => {
  chosen.value = 0
  const turn = ++asked
  if (!typed.trim()) {
    found.value = []
    return
  }
  try {
    const list = await api.pointsLike(`*${typed.trim().split(/\s+/).join('*')}*`, most)
    if (turn === asked) found.value = list
  } catch {
    if (turn === asked) found.value = []
  }
})

const to = (path: string, query: Record<string, string> = {}) => () => void router.push({ path, query })
const goals = computed<Goal[]>(() => {
  const words = text.value.toLowerCase().split(/\s+/).filter(Boolean)
  const fits = (g: Goal) => words.every((w) => `${g.name} ${g.about ?? ''} ${t(`search.${g.kind}`)}`.toLowerCase().includes(w))
  const own: Goal[] = [
    ...pages.filter((p) => service.simulated || p.name !== 'rig').map((p) => ({ kind: 'page', name: t(`pages.${p.name}`), go: to(p.path) })),
    { kind: 'command', name: t('search.begin'), go: to('/begin') },
    { kind: 'command', name: t('search.add-link'), go: to('/links', { new: 'link' }) },
    { kind: 'command', name: t('search.add-station'), go: to('/stations', { new: 'station' }) },
    { kind: 'command', name: t('search.add-point'), go: to('/points', { new: 'point' }) },
    { kind: 'command', name: t('search.export'), go: () => location.assign(exportURL) },
    { kind: 'command', name: t('search.backup'), go: () => location.assign(backupURL) },
  ]
  const named: Goal[] = words.length
    ? [
        ...site.links.map((l) => ({ kind: 'link', name: l.name, about: l.description, go: to('/links', { link: l.name }) })),
        ...site.stations.map((s) => ({ kind: 'station', name: s.name, about: s.description, go: to('/stations', { station: s.name }) })),
      ]
    : []
  const points = found.value.map((p) => ({ kind: 'point', name: p.tag, about: p.description, go: to('/live', { point: p.tag }) }))
  return [...named.filter(fits).slice(0, most), ...points, ...own.filter(fits)].slice(0, 2 * most)
})

function move(by: number) {
  if (goals.value.length > 0) chosen.value = (chosen.value + by + goals.value.length) % goals.value.length
  void nextTick(() => document.getElementById(`goal-${chosen.value}`)?.scrollIntoView({ block: 'nearest' }))
}
function take(goal?: Goal) {
  if (!goal) return
  open.value = false
  goal.go()
}
</script>

<template>
  <el-dialog v-model="open" width="min(620px, 94vw)" top="9vh" :show-close="false" :title="t('search.title')" append-to-body>
    <el-input
      ref="box" v-model="text" size="large" name="search-anything" :placeholder="t('search.placeholder')" :aria-label="t('search.placeholder')" role="combobox" aria-controls="goals" :aria-expanded="true" :aria-activedescendant="`goal-${chosen}`"
      @keydown.down.prevent="move(1)" @keydown.up.prevent="move(-1)" @keydown.enter.prevent="take(goals[chosen])"
    />
    <ul id="goals" role="listbox" :aria-label="t('search.title')" data-test="goals">
      <li v-for="(g, i) in goals" :id="`goal-${i}`" :key="g.kind + g.name" role="option" :aria-selected="i === chosen" :class="{ chosen: i === chosen }" @mousemove="chosen = i" @click="take(g)">
        <span class="quiet kind">{{ t(`search.${g.kind}`) }}</span><b>{{ g.name }}</b><span class="quiet about">{{ g.about }}</span>
      </li>
    </ul>
    <div v-if="goals.length === 0" class="quiet none">{{ t('search.none') }}</div>
  </el-dialog>
</template>

<style scoped>
ul {
  max-height: 54vh;
  overflow: auto;
  margin: 10px 0 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  gap: 10px;
  align-items: baseline;
  padding: 7px 10px;
  border-radius: 6px;
  cursor: pointer;
}
li.chosen {
  background: var(--el-color-primary-light-9);
}
.kind {
  width: 66px;
  flex: none;
  font-size: 12px;
}
.about {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.none {
  padding: 14px 10px 4px;
}
</style>
