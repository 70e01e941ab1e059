<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, ApiProblem, message, type Factor } from '../../api/client'
import { useMe } from '../../composables/useMe'

const { t } = useI18n()
const who = useMe()

const passwords = reactive({ old: '', new: '', again: '' })
const faults = ref<Record<string, string>>({})
const tell = (error: unknown) => (error instanceof ApiProblem && Object.keys(error.fields).length > 0 ? error.fields : { general: message(error) })
async function change() {
  faults.value = {}
  if (passwords.new !== passwords.again) {
    faults.value = { again: t('people.not-the-same') }
    return
  }
  try {
    await api.ownPassword({ old: passwords.old, new: passwords.new })
    Object.assign(passwords, { old: '', new: '', again: '' })
    ElMessage.success(t('people.password-changed'))
  } catch (error) {
    faults.value = tell(error)
  }
}

const factor = ref<Factor>()
const code = ref('')
const factorFaults = ref<Record<string, string>>({})
async function begin() {
  try {
    factor.value = await api.ownFactor({})
  } catch (error) {
    factorFaults.value = tell(error)
  }
}
async function setUp() {
  factorFaults.value = {}
  try {
    await api.ownFactor({ secret: factor.value!.secret, code: code.value })
    factor.value = undefined
    code.value = ''
    ElMessage.success(t('people.factor-done'))
    await who.load()
  } catch (error) {
    factorFaults.value = tell(error)
  }
}
</script>

<template>
  <div class="own">
    <section class="panel">
      <h2>{{ t('people.own-password') }}</h2>
      <el-form label-position="top" @submit.prevent="change">
        <el-form-item :label="t('people.old-password')" :error="faults.old"><el-input v-model="passwords.old" type="password" show-password autocomplete="current-password" data-test="old" /></el-form-item>
        <el-form-item :label="t('people.new-password')" :error="faults.password"><el-input v-model="passwords.new" type="password" show-password autocomplete="new-password" :placeholder="t('people.password-hint')" data-test="new" /></el-form-item>
        <el-form-item :label="t('people.again')" :error="faults.again"><el-input v-model="passwords.again" type="password" show-password autocomplete="new-password" data-test="again" /></el-form-item>
        <el-alert v-if="faults.general" :title="faults.general" type="error" :closable="false" show-icon />
        <el-button type="primary" native-type="submit" data-test="change-password">{{ t('people.change-password') }}</el-button>
      </el-form>
      <p class="quiet">{{ t('people.others-end') }}</p>
    </section>
    <section class="panel">
      <h2>{{ t('people.factor') }}</h2>
      <p>{{ t(who.me?.factor ? 'people.factor-on' : 'people.factor-off') }}</p>
      <el-button v-if="!factor" data-test="factor" @click="begin">{{ t(who.me?.factor ? 'people.factor-anew' : 'people.factor-begin') }}</el-button>
      <template v-else>
        <p>{{ t('people.factor-scan') }}</p>
        <img :src="factor.picture" alt="" width="200" height="200" data-test="factor-picture" />
        <p class="mono secret">{{ factor.secret }}</p>
        <el-form label-position="top" @submit.prevent="setUp">
          <el-form-item :label="t('people.code')" :error="factorFaults.code"><el-input v-model="code" inputmode="numeric" autocomplete="one-time-code" data-test="factor-code" /></el-form-item>
          <el-button type="primary" native-type="submit" :disabled="!code">{{ t('people.factor-set') }}</el-button>
        </el-form>
      </template>
      <el-alert v-if="factorFaults.general" :title="factorFaults.general" type="error" :closable="false" show-icon />
    </section>
  </div>
</template>

<style scoped>
.own {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  align-items: flex-start;
}
section {
  flex: 1 1 320px;
  max-width: 460px;
  padding: 14px 18px;
}
h2 {
  margin: 0 0 10px;
  font-size: 16px;
}
.secret {
  overflow-wrap: anywhere;
}
img {
  image-rendering: pixelated;
  background: #fff;
  padding: 8px;
}
</style>
