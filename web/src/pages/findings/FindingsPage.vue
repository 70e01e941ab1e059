<script setup lang="ts">
import { useI18n } from 'vue-i18n'

import FindingList from '../../components/FindingList.vue'
import { useQuery } from '../../composables/useQuery'

const { t } = useI18n()
const subject = useQuery('subject')
</script>

<template>
  <div class="page">
    <div class="page-bar">
      <h1>{{ t('pages.findings') }}</h1>
      <span class="quiet">{{ t('findings.about') }}</span>
      <span class="grow" />
      <el-tag v-if="subject" closable @close="subject = ''">{{ subject }}</el-tag>
    </div>
    <FindingList :key="subject" :subject="subject || undefined" always />
  </div>
</template>
