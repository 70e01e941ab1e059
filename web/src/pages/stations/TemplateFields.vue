<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, type Station, type Template } from '../../api/client'

// The template of a station, and the values of its parameters.
const props = defineProps<{ form: Station; faults: Record<string, string>; protocol?: string; fresh: boolean }>()
const { t } = useI18n()

const all = ref<Template[]>([])
void api.templates().then((list) => (all.value = list))
const fitting = computed(() => all.value.filter((e) => (e.protocol ?? 'modbus') === (props.protocol ?? 'modbus')))
const chosen = computed(() => all.value.find((e) => e.name === props.form.template))

/** Takes a template. A new station shows what it gets from it; that of one that is there stays, as its own. */
function take(name: string | undefined) {
  // eslint-disable-next-line vue/no-mutating-props -- the form belongs to the page; its parts fill it
  Object.assign(props.form, { template: name || undefined, values: name ? { ...props.form.values } : undefined })
  const settings = chosen.value?.station ?? {}
  if (!props.fresh) return
  for (const [field, value] of Object.entries(settings)) {
    if (typeof value !== 'string' || !value.includes('{')) Object.assign(props.form, { [field]: value })
  }
}
function give(name: string, value: string) {
  const values = { ...props.form.values, [name]: value }
  if (value === '') delete values[name]
  Object.assign(props.form, { values })
}
</script>

<template>
  <template v-if="fitting.length > 0">
    <el-form-item :label="t('templates.template')" :error="faults.template" data-field="template">
      <el-select :model-value="form.template" clearable filterable :placeholder="t('templates.none')" data-test="template" @change="take">
        <el-option v-for="e in fitting" :key="e.name" :value="e.name" :label="e.name"><span>{{ e.name }}</span> <span class="quiet">{{ e.description }}</span></el-option>
      </el-select>
    </el-form-item>
    <div v-if="chosen" class="values">
      <el-form-item v-for="p in chosen.parameters ?? []" :key="p.name" :label="p.description ? `${p.name}: ${p.description}` : p.name">
        <el-input :model-value="form.values?.[p.name] ?? ''" :name="`value-${p.name}`" :placeholder="p.default" @update:model-value="(v: string) => give(p.name, v)" />
      </el-form-item>
      <p v-if="faults.values" class="fault">{{ faults.values }}</p>
    </div>
  </template>
</template>

<style scoped>
.values {
  border-left: 3px solid var(--el-border-color);
  padding-left: 12px;
  margin-bottom: 14px;
}
.fault {
  color: var(--el-color-danger);
  margin: 4px 0;
  white-space: pre-line;
}
</style>
