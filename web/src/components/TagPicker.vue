<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

// The tags by their parts, down to each point: to be dragged to where they are wanted, or chosen by click or Enter.
const props = defineProps<{ tags: string[]; chosen?: string[] }>()
const emit = defineEmits<{ pick: [tag: string] }>()
const { t } = useI18n()

interface Node {
  id: string
  label: string
  tag?: string
  children?: Node[]
}

const search = ref('')
const found = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean)
  return words.length === 0 ? props.tags : props.tags.filter((tag) => words.every((w) => tag.toLowerCase().includes(w)))
})
const tree = computed(() => {
  const top: Node[] = []
  const known = new Map<string, Node>()
  for (const tag of found.value) {
    const parts = tag.split('/')
    const label = parts.pop()!
    let path = ''
    let siblings = top
    for (const part of parts) {
      path = path ? `${path}/${part}` : part
      let branch = known.get(path)
      if (!branch) {
        branch = { id: `${path}/`, label: part, children: [] }
        known.set(path, branch)
        siblings.push(branch)
      }
      siblings = branch.children!
    }
    siblings.push({ id: tag, label, tag })
  }
  const sort = (list: Node[]) => {
    list.sort((a, b) => Number(Boolean(a.tag)) - Number(Boolean(b.tag)) || (a.label < b.label ? -1 : 1))
    for (const n of list) if (n.children) sort(n.children)
  }
  sort(top)
  return top
})
/** What is found is open, so that it is seen. */
const opened = computed(() => (search.value || props.tags.length < 40 ? found.value.slice(0, 300).flatMap((tag) => tag.split('/').slice(0, -1).map((_, i, parts) => `${parts.slice(0, i + 1).join('/')}/`)) : []))

function drag(event: DragEvent, tag?: string) {
  if (!tag || !event.dataTransfer) return event.preventDefault()
  event.dataTransfer.setData('text/plain', tag)
  event.dataTransfer.effectAllowed = 'copy'
}
</script>

<template>
  <div class="picker" data-test="picker">
    <el-input v-model="search" :placeholder="t('trends.search')" clearable size="small" :aria-label="t('trends.search')" data-test="picker-search" />
    <div class="fill">
      <el-auto-resizer>
        <template #default="{ height }">
          <el-tree-v2 :key="opened.join()" :data="tree" :height="height" :item-size="28" :props="{ value: 'id', label: 'label', children: 'children' }" :default-expanded-keys="opened" @node-click="(n: Node) => n.tag && emit('pick', n.tag)">
            <template #default="{ data }">
              <span class="node" :class="{ leaf: data.tag, taken: data.tag && chosen?.includes(data.tag) }" :draggable="Boolean(data.tag)" :title="data.tag" :data-tag="data.tag" @dragstart="drag($event, data.tag)">
                {{ data.label }}<span v-if="data.tag && chosen?.includes(data.tag)" aria-hidden="true"> ✓</span>
              </span>
            </template>
          </el-tree-v2>
        </template>
      </el-auto-resizer>
    </div>
  </div>
</template>

<style scoped>
.picker {
  width: 214px;
  flex: none;
  display: flex;
  flex-direction: column;
  gap: 6px;
  padding: 8px;
}
.node {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
}
.leaf {
  cursor: grab;
}
.taken {
  color: var(--el-color-primary);
  font-weight: 600;
}
</style>
