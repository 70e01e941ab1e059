<script setup lang="ts">
import { ref, watch } from 'vue'

import { words, type Conflict } from '../composables/conflict'

const props = defineProps<{ conflicts: Conflict[]; name: string }>()
const emit = defineEmits<{ choose: [mine: string[] | undefined] }>()

const choice = ref<Record<string, 'mine' | 'theirs'>>({})
watch(
  () => props.conflicts,
  (list) => (choice.value = Object.fromEntries(list.map((c) => [c.field, 'theirs' as const]))),
  { immediate: true },
)
const mine = () => props.conflicts.map((c) => c.field).filter((field) => choice.value[field] === 'mine')
</script>

<template>
  <el-dialog :model-value="conflicts.length > 0" :title="`${name} was changed by somebody else meanwhile`" width="720px" append-to-body data-test="conflict" @close="emit('choose', undefined)">
    <p>You both changed the fields below. Nothing is saved yet; choose what each is to be.</p>
    <el-table :data="conflicts" size="small">
      <el-table-column prop="field" label="Field" width="130" />
      <el-table-column label="When you began" min-width="110"><template #default="{ row }">{{ words(row.was) }}</template></el-table-column>
      <el-table-column label="To be" min-width="330">
        <template #default="{ row }">
          <el-radio-group v-model="choice[row.field]">
            <el-radio value="theirs">theirs: {{ words(row.theirs) }}</el-radio>
            <el-radio value="mine">yours: {{ words(row.mine) }}</el-radio>
          </el-radio-group>
        </template>
      </el-table-column>
    </el-table>
    <template #footer>
      <el-button @click="emit('choose', undefined)">Back to the form</el-button>
      <el-button type="primary" data-test="resolve" @click="emit('choose', mine())">Save</el-button>
    </template>
  </el-dialog>
</template>
