<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import { useMe } from '../../composables/useMe'
import { useQuery } from '../../composables/useQuery'
import AccountList from './AccountList.vue'
import AuditLog from './AuditLog.vue'
import OwnAccount from './OwnAccount.vue'
import SessionList from './SessionList.vue'
import TokenList from './TokenList.vue'

// Who may use the service and what they may, what programs show, who is signed in, and what was done. Each part is for those who may see it.
const { t } = useI18n()
const who = useMe()
const part = useQuery('part')

const parts = computed(() => {
  if (who.me?.open) return ['accounts', 'audit']
  return [...(who.may('admin') ? ['accounts'] : []), ...(who.me?.token ? [] : ['own']), 'tokens', 'sessions', ...(who.may('admin') ? ['audit'] : [])]
})
const shown = computed(() => (parts.value.includes(part.value) ? part.value : parts.value[0]))
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('pages.accounts') }}</h1>
      <el-radio-group :model-value="shown" @update:model-value="(v: unknown) => (part = String(v))">
        <el-radio-button v-for="p in parts" :key="p" :value="p" :data-test="`part-${p}`">{{ t(`people.parts.${p}`) }}</el-radio-button>
      </el-radio-group>
    </div>
    <AccountList v-if="shown === 'accounts'" />
    <OwnAccount v-else-if="shown === 'own'" />
    <TokenList v-else-if="shown === 'tokens'" />
    <SessionList v-else-if="shown === 'sessions'" />
    <AuditLog v-else-if="shown === 'audit'" />
  </div>
</template>
