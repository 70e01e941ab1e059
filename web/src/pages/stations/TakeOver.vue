<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Held } from '../../api/client'

const { t } = useI18n()

// What an outstation has; what is chosen becomes points of the site in one step.
const props = defineProps<{ station: string; points: Held[] }>()
const prefix = ref(`${props.station}/`)
const chosen = ref<Held[]>([])
const busy = ref(false)
const problem = ref('')
const tag = (h: Held) => prefix.value + h.address.replace(':', '')
const text = computed(() => (chosen.value.length === 1 ? t('stations.make-one') : t('stations.make-several', { n: chosen.value.length })))

async function take() {
  busy.value = true
  problem.value = ''
  const points = chosen.value.map((h) => ({ tag: tag(h), station: props.station, address: h.address, type: h.type }))
  try {
    const sum = await api.apply(JSON.stringify({ arithmon: 1, points }), `points of ${props.station}`, false)
    ElMessage.success(t('stations.made', { added: sum.added, changed: sum.changed }, sum.added))
  } catch (error) {
    problem.value = message(error)
  }
  busy.value = false
}
const value = (v: unknown) => (typeof v === 'number' && !Number.isInteger(v) ? String(Number(v.toPrecision(7))) : String(v))
</script>

<template>
  <div data-test="held">
    <el-table :data="points" max-height="300" size="small" row-key="address" @selection-change="(rows: Held[]) => (chosen = rows)">
      <el-table-column type="selection" width="38" />
      <el-table-column prop="address" :label="t('stations.address')" width="80" class-name="mono" />
      <el-table-column prop="variation" :label="t('stations.object')" width="80" class-name="mono" />
      <el-table-column :label="t('stations.class')" width="58"><template #default="{ row }">{{ row.class || '–' }}</template></el-table-column>
      <el-table-column :label="t('stations.value')" min-width="90"><template #default="{ row }">{{ value(row.value) }}</template></el-table-column>
      <el-table-column :label="t('stations.flags')" min-width="80"><template #default="{ row }">{{ (row.flags ?? []).join(', ') }}</template></el-table-column>
    </el-table>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
    <div class="take">
      <el-input v-model="prefix" name="prefix" class="mono" :aria-label="t('stations.before-each-tag')"><template #prepend>{{ t('stations.tags-begin-with') }}</template></el-input>
      <el-button type="primary" plain :disabled="chosen.length === 0" :loading="busy" data-test="take" @click="take">{{ text }}</el-button>
    </div>
  </div>
</template>

<style scoped>
.take {
  display: grid;
  gap: 8px;
  margin-top: 8px;
}
</style>
