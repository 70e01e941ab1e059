<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message } from '../api/client'

const { t } = useI18n()

// Duplicates a link, or a station with its points when their tags change.
const props = defineProps<{ kind: 'link' | 'station'; name: string }>()
const emit = defineEmits<{ copied: [name: string] }>()

const open = ref(false)
const busy = ref(false)
const problem = ref('')
const copy = reactive({ name: '', from: '', to: '' })

async function make() {
  busy.value = true
  problem.value = ''
  try {
    await api.copy(props.kind, props.name, { name: copy.name, ...(copy.from ? { tags: { from: copy.from, to: copy.to } } : {}) })
    ElMessage.success(t('common.copy-made', { name: copy.name }))
    open.value = false
    emit('copied', copy.name)
  } catch (error) {
    problem.value = message(error)
  }
  busy.value = false
}
</script>

<template>
  <div class="copy">
    <el-button v-if="!open" data-test="copy" @click="open = true">{{ t('common.duplicate') }}</el-button>
    <template v-else>
      <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon />
      <div class="form-row">
        <el-input v-model="copy.name" name="copy-name" :placeholder="t('common.name-of-the-copy')" />
        <template v-if="kind === 'station'">
          <el-input v-model="copy.from" name="copy-from" class="mono" :placeholder="t('common.in-tags-replace')" />
          <el-input v-model="copy.to" name="copy-to" class="mono" :placeholder="t('common.by')" />
        </template>
        <el-button type="primary" plain :loading="busy" :disabled="!copy.name" data-test="copy-make" @click="make">{{ t('common.duplicate-2') }}</el-button>
      </div>
      <div class="quiet">{{ t(kind === 'link' ? 'common.copy-of-link' : 'common.copy-of-station') }}</div>
    </template>
  </div>
</template>

<style scoped>
.copy {
  margin-top: 12px;
}
</style>
