<script setup lang="ts">
import { computed, reactive } from 'vue'

import type { Link } from '../../api/client'
import TestButton from '../../components/TestButton.vue'
import { useForm } from '../../composables/useForm'

const props = defineProps<{ link?: Link }>()
const emit = defineEmits<{ saved: [name: string] }>()

const form = reactive<Link>({
  ...(props.link ?? { name: '', protocol: 'modbus', transport: 'tcp', host: '', port: 502, timeout: '1s', retries: 2, pause: '0s', enabled: true }),
})
const original = computed(() => props.link?.name ?? '')
const { faults, general, busy, save, remove } = useForm('link', original, (name) => emit('saved', name))
const fields = ['name', 'host', 'port', 'timeout', 'retries', 'pause', 'description', 'bind']
</script>

<template>
  <el-form label-position="top" @submit.prevent="save(form, form.name, fields)">
    <el-alert v-if="general" :title="general" type="error" :closable="false" show-icon />
    <el-form-item label="Name" :error="faults.name"><el-input v-model="form.name" name="name" autofocus /></el-form-item>
    <el-form-item label="Description" :error="faults.description"><el-input v-model="form.description" name="description" /></el-form-item>
    <div class="row">
      <el-form-item label="Host name or IP address" :error="faults.host" class="wide"><el-input v-model="form.host" name="host" class="mono" /></el-form-item>
      <el-form-item label="TCP port" :error="faults.port"><el-input-number v-model="form.port" :controls="false" name="port" /></el-form-item>
    </div>
    <div class="row">
      <el-form-item label="Timeout" :error="faults.timeout"><el-input v-model="form.timeout" name="timeout" placeholder="1s" /></el-form-item>
      <el-form-item label="Retries" :error="faults.retries"><el-input-number v-model="form.retries" :min="0" :max="10" name="retries" /></el-form-item>
      <el-form-item label="Pause between exchanges" :error="faults.pause"><el-input v-model="form.pause" name="pause" placeholder="0s" /></el-form-item>
    </div>
    <el-form-item label="Local IP address to go out by (optional)" :error="faults.bind"><el-input v-model="form.bind" name="bind" class="mono" /></el-form-item>
    <el-form-item><el-switch v-model="form.enabled" active-text="enabled" inactive-text="disabled" /></el-form-item>
    <TestButton v-if="link" kind="link" :name="link.name" />
    <div class="actions">
      <el-button type="primary" native-type="submit" :loading="busy" data-test="save">Save</el-button>
      <el-button v-if="link" type="danger" plain @click="remove('Its stations and their points go with it.', true)">Remove…</el-button>
    </div>
  </el-form>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
}
.row > * {
  flex: 1;
  min-width: 110px;
}
.row > .wide {
  flex: 2;
}
.actions {
  display: flex;
  justify-content: space-between;
  margin-top: 18px;
}
</style>
