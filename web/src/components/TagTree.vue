<script setup lang="ts">
import { computed, shallowRef } from 'vue'
import { useI18n } from 'vue-i18n'

import { api } from '../api/client'
import { useEvery } from '../composables/useEvery'

// The tags by their parts: a branch for each, with how many of its points are good, uncertain and bad where that is known, by each
// reading, or as the service counts them. One is chosen; all that is shown beside is on it.
type Quality = 'good' | 'uncertain' | 'bad'
type Counts = Record<Quality, number>
const props = defineProps<{ tags: { tag: string; quality?: Quality }[]; counted?: boolean }>()
const chosen = defineModel<string>({ required: true })
const { t } = useI18n()

interface Branch {
  id: string
  label: string
  all: number
  good: number
  uncertain: number
  bad: number
  children: Branch[]
}

const tree = computed(() => {
  const top: Branch[] = []
  const known = new Map<string, Branch>()
  for (const { tag, quality } of props.tags) {
    const parts = tag.split('/').slice(0, -1)
    let path = ''
    let siblings = top
    for (const part of parts) {
      path = path ? `${path}/${part}` : part
      let branch = known.get(path)
      if (!branch) {
        branch = { id: path, label: part, all: 0, good: 0, uncertain: 0, bad: 0, children: [] }
        known.set(path, branch)
        siblings.push(branch)
      }
      branch.all++
      if (quality) branch[quality]++
      siblings = branch.children
    }
  }
  const sort = (list: Branch[]) => {
    list.sort((a, b) => (a.label < b.label ? -1 : 1))
    for (const b of list) sort(b.children)
  }
  sort(top)
  return top
})

const counts = shallowRef<Map<string, Counts>>()
if (props.counted)
  useEvery(2000, async () => {
    try {
      counts.value = new Map((await api.branches()).branches.map((b) => [b.path, b]))
    } catch {
      counts.value = undefined // what may be old by now is not shown
    }
  })
const countsOf = (b: Branch): Counts => counts.value?.get(b.id) ?? b
const inWords = (c: Counts) => (['good', 'uncertain', 'bad'] as const).map((q) => `${c[q]} ${t(`quality.${q}`)}`).join(', ')

/** The branches above the one that is chosen, which is open then. */
const opened = computed(() => chosen.value.split('/').map((_, i, parts) => parts.slice(0, i + 1).join('/')))
</script>

<template>
  <div class="tree" data-test="tree">
    <button class="all" :class="{ chosen: !chosen }" @click="chosen = ''">{{ t('tree.all') }} <span class="quiet number">{{ tags.length }}</span></button>
    <div class="fill">
      <el-auto-resizer>
        <template #default="{ height }">
          <el-tree-v2 :data="tree" :height="height" :item-size="30" :props="{ value: 'id', label: 'label', children: 'children' }" :current-node-key="chosen" :default-expanded-keys="opened" highlight-current @node-click="(b: Branch) => (chosen = b.id)">
            <template #default="{ data }">
              <span class="branch" :data-branch="data.id" :title="inWords(countsOf(data))">
                <span class="label">{{ data.label }}</span>
                <span class="number quiet">{{ data.all }}</span>
                <span v-if="countsOf(data).uncertain" class="number uncertain">◐ {{ countsOf(data).uncertain }}</span>
                <span v-if="countsOf(data).bad" class="number bad">✕ {{ countsOf(data).bad }}</span>
              </span>
            </template>
          </el-tree-v2>
        </template>
      </el-auto-resizer>
    </div>
  </div>
</template>

<style scoped>
.tree {
  width: 220px;
  flex: none;
  display: flex;
  flex-direction: column;
  padding: 6px 0;
}
.all {
  border: 0;
  background: none;
  text-align: left;
  padding: 6px 14px;
  font: inherit;
  color: inherit;
  cursor: pointer;
}
.all.chosen {
  background: var(--el-color-primary-light-9);
}
.branch {
  display: flex;
  gap: 8px;
  flex: 1;
  min-width: 0;
  padding-right: 10px;
}
.label {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
}
.uncertain {
  color: var(--uncertain);
}
.bad {
  color: var(--bad);
  font-weight: 600;
}
</style>
