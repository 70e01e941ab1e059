<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, ApiProblem, message, type MadeToken, type Token } from '../../api/client'
import { roles, useMe } from '../../composables/useMe'
import { time } from '../../time'

const { t } = useI18n()
const who = useMe()
const list = ref<Token[]>()
const problem = ref('')
async function load() {
  try {
    list.value = await api.tokens()
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
void load()

const adding = ref(false)
const form = reactive({ name: '', role: 'viewer', only: '', days: 90 })
const faults = ref<Record<string, string>>({})
const made = ref<MadeToken>()
const mine = computed(() => roles.filter((r) => who.may(r)))
async function add() {
  faults.value = {}
  try {
    made.value = await api.addToken({ name: form.name.trim(), role: form.role, only: form.only.split(/[\n,]/).map((p) => p.trim()).filter(Boolean), days: form.days })
    adding.value = false
    form.name = ''
    await load()
  } catch (error) {
    faults.value = error instanceof ApiProblem && Object.keys(error.fields).length > 0 ? error.fields : { general: message(error) }
  }
}
async function remove(token: Token) {
  try {
    await ElMessageBox.confirm(t('people.token-ends'), t('common.remove-really', { name: token.name }), { confirmButtonText: t('common.remove'), cancelButtonText: t('common.keep'), type: 'warning' })
  } catch {
    return
  }
  try {
    await api.removeToken(token.name)
    await load()
  } catch (error) {
    problem.value = message(error)
  }
}
const over = (token: Token) => new Date(token.ends).getTime() < Date.now()
</script>

<template>
  <p class="quiet">{{ t('people.tokens-are') }}</p>
  <el-alert v-if="problem" :title="problem" type="error" show-icon @close="problem = ''" />
  <el-alert v-if="made" type="success" show-icon :title="t('people.token-once', { name: made.name })" @close="made = undefined"><span class="mono token" data-test="token">{{ made.token }}</span></el-alert>
  <div class="panel fill">
    <el-table v-if="list" :data="list" height="100%" :empty-text="t('people.no-token')">
      <el-table-column prop="name" :label="t('people.token')" min-width="170" />
      <el-table-column prop="account" :label="t('people.account')" min-width="110" />
      <el-table-column :label="t('people.role')" width="110"><template #default="{ row }">{{ t(`people.roles.${row.role}`) }}</template></el-table-column>
      <el-table-column :label="t('people.only')" min-width="150" class-name="mono"><template #default="{ row }">{{ (row.only ?? []).join(', ') }}</template></el-table-column>
      <el-table-column :label="t('people.ends')" width="170"><template #default="{ row }">{{ time(row.ends) }}<span v-if="over(row)"> ({{ t('people.ended') }})</span></template></el-table-column>
      <el-table-column :label="t('people.used')" width="170"><template #default="{ row }">{{ row.used ? time(row.used) : '–' }}</template></el-table-column>
      <el-table-column width="110" align="right"><template #default="{ row }"><el-button size="small" @click="remove(row)">{{ t('common.remove') }}</el-button></template></el-table-column>
    </el-table>
  </div>
  <div><el-button type="primary" data-test="add-token" @click="adding = true">{{ t('people.add-token') }}</el-button></div>
  <el-drawer v-model="adding" :title="t('people.add-token')" size="min(420px, 96vw)" destroy-on-close>
    <el-form label-position="top" @submit.prevent="add">
      <el-form-item :label="t('people.token-name')" :error="faults.name"><el-input v-model="form.name" data-test="token-name" /></el-form-item>
      <el-form-item :label="t('people.role')" :error="faults.role">
        <el-select v-model="form.role"><el-option v-for="r in mine" :key="r" :value="r" :label="t(`people.roles.${r}`)" /></el-select>
      </el-form-item>
      <el-form-item :label="t('people.only')" :error="faults.only"><el-input v-model="form.only" type="textarea" :rows="2" :placeholder="t('people.only-hint')" /></el-form-item>
      <el-form-item :label="t('people.days')" :error="faults.days"><el-input-number v-model="form.days" :min="1" :max="3650" /></el-form-item>
      <el-alert v-if="faults.general" :title="faults.general" type="error" :closable="false" show-icon />
      <div class="form-actions"><el-button type="primary" native-type="submit" :disabled="!form.name.trim()" data-test="save-token">{{ t('people.make') }}</el-button></div>
    </el-form>
  </el-drawer>
</template>

<style scoped>
p {
  margin: 0;
}
.token {
  overflow-wrap: anywhere;
  user-select: all;
}
</style>
