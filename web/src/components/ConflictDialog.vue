<script setup lang="ts">
import { ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'

import { words, type Conflict } from '../composables/conflict'

const { t } = useI18n()

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
  <el-dialog :model-value="conflicts.length > 0" :title="t('common.changed-meanwhile', { name })" width="720px" append-to-body data-test="conflict" @close="emit('choose', undefined)">
    <p>{{ t('common.you-both-changed-the-fields-below') }}</p>
    <el-table :data="conflicts" size="small">
      <el-table-column prop="field" :label="t('common.field')" width="130" />
      <el-table-column :label="t('common.when-you-began')" min-width="110"><template #default="{ row }">{{ words(row.was) }}</template></el-table-column>
      <el-table-column :label="t('common.to-be')" min-width="330">
        <template #default="{ row }">
          <el-radio-group v-model="choice[row.field]">
            <el-radio value="theirs">{{ row.who || t('common.theirs') }}: {{ words(row.theirs) }}</el-radio>
            <el-radio value="mine">{{ t('common.yours') }}: {{ words(row.mine) }}</el-radio>
          </el-radio-group>
        </template>
      </el-table-column>
    </el-table>
    <template #footer>
      <el-button @click="emit('choose', undefined)">{{ t('common.back-to-the-form') }}</el-button>
      <el-button type="primary" data-test="resolve" @click="emit('choose', mine())">{{ t('common.save') }}</el-button>
    </template>
  </el-dialog>
</template>
