<script setup lang="ts">
import { nextTick, onMounted, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { ApiProblem, message } from '../api/client'
import { useMe } from '../composables/useMe'
import { useQuery } from '../composables/useQuery'

// Signing in, over the page that was asked for: what is on it stays, also when a session ended while somebody worked on it.
const { t } = useI18n()
const who = useMe()
const account = ref('')
const password = ref('')
const code = ref('')
const asksCode = ref(false)
const problem = ref('')
const refused = useQuery('directory') // why the directory sent somebody back
const reasons = ['unreachable', 'no-role', 'stale', 'failed']
const busy = ref(false)
const first = ref<{ focus: () => void }>()
const codeBox = ref<{ focus: () => void }>()
onMounted(() => first.value?.focus())

async function signIn() {
  busy.value = true
  problem.value = ''
  try {
    await who.signIn({ account: account.value.trim(), password: password.value, code: code.value || undefined })
    password.value = code.value = ''
  } catch (error) {
    if (error instanceof ApiProblem && error.problem.type === 'urn:arithmon:code-needed') {
      asksCode.value = true
      await nextTick()
      codeBox.value?.focus()
    } else {
      problem.value = message(error)
    }
  }
  busy.value = false
}
</script>

<template>
  <div class="sign-in" role="dialog" aria-modal="true" :aria-label="t('people.sign-in')" data-test="sign-in">
    <form class="panel" @submit.prevent="signIn">
      <h1><img src="/mark.svg" alt="" width="30" height="30" />Arithmon</h1>
      <p class="quiet">{{ t('people.sign-in-here') }}</p>
      <label>{{ t('people.account') }}<el-input ref="first" v-model="account" autocomplete="username" data-test="account" /></label>
      <label>{{ t('people.password') }}<el-input v-model="password" type="password" show-password autocomplete="current-password" data-test="password" /></label>
      <label v-if="asksCode">{{ t('people.code') }}<el-input ref="codeBox" v-model="code" inputmode="numeric" autocomplete="one-time-code" data-test="code" /></label>
      <el-alert v-if="reasons.includes(refused)" :title="t(`people.directory-${refused}`)" type="error" show-icon data-test="directory-refused" @close="refused = ''" />
      <el-alert v-if="problem" :title="problem" type="error" :closable="false" show-icon data-test="sign-in-problem" />
      <el-button type="primary" native-type="submit" :loading="busy" :disabled="!account || !password" data-test="sign-in-go">{{ t('people.sign-in') }}</el-button>
      <a v-if="who.me?.directory" href="/api/v1/directory" class="directory" data-test="directory">{{ t('people.by-directory', { name: who.me.directory }) }}</a>
    </form>
  </div>
</template>

<style scoped>
.sign-in {
  position: fixed;
  inset: 0;
  z-index: 3000;
  display: flex;
  align-items: center;
  justify-content: center;
  padding: 16px;
  overflow: auto;
  background: var(--el-bg-color-page);
}
form {
  display: flex;
  flex-direction: column;
  gap: 12px;
  width: min(360px, 100%);
  padding: 26px 28px;
}
h1 {
  display: flex;
  align-items: center;
  gap: 10px;
  margin: 0;
  font-size: 22px;
}
p {
  margin: 0;
}
label {
  display: flex;
  flex-direction: column;
  gap: 4px;
}
.directory {
  text-align: center;
}
</style>
