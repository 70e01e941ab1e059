<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Lens, type LensRow, type Point } from '../../api/client'
import { useEvery } from '../../composables/useEvery'

const { t } = useI18n()

// The same words under every type and byte order, so that a person sees which one the device means, and takes it.
const props = defineProps<{ point: Point }>()
const emit = defineEmits<{ taken: [] }>()

const orders = ['ABCD', 'CDAB', 'BADC', 'DCBA'] as const
const lens = ref<Lens>()
const problem = ref('')
const picked = ref<{ type: LensRow['type']; order: LensRow['order'] }>()
const busy = ref(false)

async function look() {
  try {
    lens.value = await api.lens(props.point.tag)
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
useEvery(1500, look)

const types = computed(() => {
  const byType = new Map<LensRow['type'], Map<string, LensRow>>()
  for (const row of lens.value?.rows ?? []) {
    if (!byType.has(row.type)) byType.set(row.type, new Map())
    byType.get(row.type)?.set(row.order, row)
  }
  return [...byType].map(([type, cells]) => ({ type, cells }))
})

/** A value in few characters; the whole of it stands in the title. */
function short(row: LensRow): string {
  if (row.problem) return 'no value'
  return row.text.length <= 9 ? row.text : Number(row.text).toPrecision(3).replace('e+', 'e')
}

async function take() {
  if (!picked.value) return
  busy.value = true
  try {
    await api.set('point', props.point.tag, { ...picked.value, length: null, states: null })
    picked.value = undefined
    await look()
    emit('taken')
  } catch (error) {
    problem.value = message(error)
  }
  busy.value = false
}
</script>

<template>
  <section class="lens" data-test="lens">
    <div class="bar">
      <h3>{{ t('live.lens') }}</h3>
      <span v-if="lens" class="mono quiet">{{ lens.address }}: {{ lens.words.join(' ') }}</span>
    </div>
    <el-alert v-if="problem" :title="problem" type="warning" :closable="false" />
    <table>
      <thead>
        <tr>
          <th />
          <th v-for="o in orders" :key="o" class="mono">{{ o }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="{ type, cells } in types" :key="type">
          <th class="mono">{{ type }}</th>
          <td v-for="o in orders" :key="o">
            <button
              v-if="cells.get(o)"
              type="button"
              class="number"
              :class="{ current: cells.get(o)!.current, picked: picked?.type === type && picked?.order === o, quiet: !cells.get(o)!.plausible }"
              :disabled="Boolean(cells.get(o)!.problem)"
              :title="cells.get(o)!.problem || `${cells.get(o)!.text} (raw ${cells.get(o)!.value})`"
              :data-cell="`${type}-${o}`"
              @click="picked = { type, order: o }"
            >
              {{ short(cells.get(o)!) }}
            </button>
          </td>
        </tr>
      </tbody>
    </table>
    <div class="bar">
      <el-button v-if="picked" type="primary" size="small" :loading="busy" data-test="take" @click="take">{{ t('live.read-it-as', { type: picked.type, order: picked.order }) }}</el-button>
      <span v-else class="quiet">{{ t('live.framed-as-the-point-is-read') }}</span>
    </div>
  </section>
</template>

<style scoped>
.lens {
  margin: 14px 0;
}
.bar {
  display: flex;
  align-items: baseline;
  gap: 10px;
  flex-wrap: wrap;
  min-height: 26px;
}
h3 {
  margin: 0 0 6px;
  font-size: 14px;
}
table {
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
  margin-bottom: 8px;
}
th {
  font-weight: 400;
  font-size: 12px;
  text-align: left;
  color: var(--el-text-color-secondary);
}
thead th {
  text-align: right;
  padding-right: 8px;
}
td {
  padding: 1px;
}
button {
  width: 100%;
  padding: 4px 6px;
  border: 1px solid transparent;
  border-radius: 4px;
  background: var(--el-fill-color-light);
  color: inherit;
  font: inherit;
  font-size: 12.5px;
  text-align: right;
  cursor: pointer;
  overflow: hidden;
  white-space: nowrap;
}
button:hover:enabled {
  border-color: var(--el-color-primary);
}
button:disabled {
  cursor: default;
  background: none;
}
button.quiet {
  color: var(--el-text-color-placeholder);
}
button.current {
  border: 2px solid var(--el-color-primary);
  font-weight: 600;
}
button.picked {
  background: var(--el-color-primary);
  color: var(--el-bg-color);
}
</style>
