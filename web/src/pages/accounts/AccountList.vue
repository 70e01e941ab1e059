<script setup lang="ts">
import { ElMessage, ElMessageBox } from 'element-plus'
import { reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, ApiProblem, message, type Account } from '../../api/client'
import { roles, useMe } from '../../composables/useMe'
import { time } from '../../time'

const { t } = useI18n()
const who = useMe()
const list = ref<Account[]>()
const problem = ref('')

async function load() {
  try {
    list.value = await api.accounts()
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
void load()

// The form of an account: a new one, or one that is there.
const editing = ref<Account | 'new'>()
const form = reactive({ name: '', role: 'viewer', only: '', password: '' })
const faults = ref<Record<string, string>>({})
function edit(a: Account | 'new') {
  editing.value = a
  faults.value = {}
  Object.assign(form, a === 'new' ? { name: '', role: who.me?.open ? 'admin' : 'viewer', only: '', password: '' } : { name: a.name, role: a.role, only: (a.only ?? []).join('\n'), password: '' })
}
const patterns = () => form.only.split(/[\n,]/).map((p) => p.trim()).filter(Boolean)
async function save() {
  faults.value = {}
  try {
    if (editing.value === 'new') await api.addAccount({ name: form.name.trim(), role: form.role, only: patterns(), password: form.password })
    else await api.setAccount(form.name, { role: (editing.value as Account).directory ? undefined : form.role, only: patterns(), password: form.password || undefined })
    ElMessage.success(t('common.saved', { name: form.name }))
    editing.value = undefined
    if (who.me?.open) await who.load() // from now on everybody signs in
    else await load()
  } catch (error) {
    faults.value = error instanceof ApiProblem ? { general: Object.keys(error.fields).length > 0 ? '' : error.message, ...error.fields } : { general: message(error) }
  }
}
async function remove(a: Account) {
  try {
    await ElMessageBox.confirm(t('people.removed-with'), t('common.remove-really', { name: a.name }), { confirmButtonText: t('common.remove'), cancelButtonText: t('common.keep'), type: 'warning' })
  } catch {
    return
  }
  try {
    await api.removeAccount(a.name)
    await load()
  } catch (error) {
    problem.value = message(error)
  }
}
async function withoutFactor(a: Account) {
  try {
    await api.setAccount(a.name, { factor: false })
    await load()
  } catch (error) {
    problem.value = message(error)
  }
}
</script>

<template>
  <el-alert v-if="who.me?.open" :title="t('people.open')" type="info" :closable="false" show-icon data-test="open" />
  <el-alert v-if="problem" :title="problem" type="error" show-icon @close="problem = ''" />
  <div class="panel fill">
    <el-table v-if="list" :data="list" height="100%" :empty-text="t('people.no-account')">
      <el-table-column prop="name" :label="t('people.account')" min-width="140" />
      <el-table-column :label="t('people.role')" width="120"><template #default="{ row }">{{ t(`people.roles.${row.role}`) }}</template></el-table-column>
      <el-table-column :label="t('people.only')" min-width="150" class-name="mono"><template #default="{ row }">{{ (row.only ?? []).join(', ') }}</template></el-table-column>
      <el-table-column :label="t('people.signs-in')" min-width="150">
        <template #default="{ row }">{{ t(row.directory ? 'people.with-directory' : row.factor ? 'people.with-factor' : 'people.with-password') }}</template>
      </el-table-column>
      <el-table-column :label="t('people.signed-in')" width="185"><template #default="{ row }">{{ row.signed_in ? time(row.signed_in) : '–' }}</template></el-table-column>
      <el-table-column width="235" align="right">
        <template #default="{ row }">
          <el-button v-if="row.factor" size="small" @click="withoutFactor(row)">{{ t('people.no-factor') }}</el-button>
          <el-button size="small" :data-test="`edit-${row.name}`" @click="edit(row)">{{ t('people.change') }}</el-button>
          <el-button size="small" @click="remove(row)">{{ t('common.remove') }}</el-button>
        </template>
      </el-table-column>
    </el-table>
  </div>
  <div><el-button type="primary" data-test="add-account" @click="edit('new')">{{ t(who.me?.open ? 'people.first' : 'people.add') }}</el-button></div>

  <el-drawer :model-value="Boolean(editing)" :title="t(editing === 'new' ? 'people.add' : 'people.change')" size="min(420px, 96vw)" destroy-on-close @close="editing = undefined">
    <el-form label-position="top" @submit.prevent="save">
      <el-form-item :label="t('people.account')" :error="faults.name"><el-input v-model="form.name" :disabled="editing !== 'new'" autocomplete="off" data-test="account-name" /></el-form-item>
      <el-form-item :label="t('people.role')" :error="faults.role">
        <el-radio-group v-model="form.role" class="roles" :disabled="editing !== 'new' && editing?.directory">
          <el-radio v-for="r in roles" :key="r" :value="r" :data-test="`role-${r}`"><b>{{ t(`people.roles.${r}`) }}</b> <span class="quiet">{{ t(`people.may.${r}`) }}</span></el-radio>
        </el-radio-group>
      </el-form-item>
      <el-form-item :label="t('people.only')" :error="faults.only"><el-input v-model="form.only" type="textarea" :rows="2" :placeholder="t('people.only-hint')" data-test="account-only" /></el-form-item>
      <el-form-item v-if="editing === 'new' || !editing?.directory" :label="t(editing === 'new' ? 'people.password' : 'people.new-password')" :error="faults.password">
        <el-input v-model="form.password" type="password" show-password autocomplete="new-password" :placeholder="editing === 'new' ? t('people.password-hint') : t('people.stays')" data-test="account-password" />
      </el-form-item>
      <el-alert v-if="faults.general" :title="faults.general" type="error" :closable="false" show-icon />
      <div class="form-actions"><el-button type="primary" native-type="submit" data-test="save-account">{{ t('common.save') }}</el-button></div>
    </el-form>
  </el-drawer>
</template>

<style scoped>
.roles {
  flex-direction: column;
  align-items: flex-start;
}
.roles :deep(.el-radio) {
  height: auto;
  padding: 4px 0;
  white-space: normal;
}
</style>
