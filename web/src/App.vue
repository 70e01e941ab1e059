<script setup lang="ts">
import { Moon, Sunny } from '@element-plus/icons-vue'
import { ElMessage } from 'element-plus'
import { computed, ref, watchEffect } from 'vue'

import { api, onWarning } from './api/client'
import { steps } from './router'

onWarning((text) => ElMessage({ type: 'warning', message: text, duration: 12000, showClose: true }))

// What is simulated can be spoilt; a service for real devices has no such page.
const simulated = ref(false)
api.rig().then(
  () => (simulated.value = true),
  () => undefined,
)
const shown = computed(() => steps.filter((s) => simulated.value || s.path !== '/rig'))

const stored = localStorage.getItem('look')
const dark = ref(stored ? stored === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches)
watchEffect(() => {
  document.documentElement.classList.toggle('dark', dark.value)
})

function changeLook() {
  dark.value = !dark.value
  localStorage.setItem('look', dark.value ? 'dark' : 'light')
}
</script>

<template>
  <div class="frame">
    <header>
      <router-link to="/overview" class="mark"><img src="/mark.svg" alt="" width="26" height="26" />Arithmon</router-link>
      <nav aria-label="Steps of the job">
        <router-link v-for="step in shown" :key="step.path" :to="step.path">{{ step.title }}</router-link>
      </nav>
      <el-button text circle :icon="dark ? Sunny : Moon" :aria-label="dark ? 'Light look' : 'Dark look'" @click="changeLook" />
    </header>
    <main><router-view /></main>
  </div>
</template>

<style scoped>
.frame {
  display: flex;
  flex-direction: column;
  height: 100%;
}
header {
  display: flex;
  align-items: center;
  gap: 18px;
  padding: 0 14px;
  min-height: 48px;
  background: var(--bar);
  color: var(--bar-text);
}
.mark {
  display: flex;
  align-items: center;
  gap: 8px;
  font-size: 16px;
  font-weight: 600;
  color: inherit;
  text-decoration: none;
}
nav {
  display: flex;
  flex: 1;
  overflow-x: auto;
}
nav a {
  padding: 14px 13px 11px;
  color: inherit;
  opacity: 0.78;
  text-decoration: none;
  border-bottom: 3px solid transparent;
}
nav a:hover {
  opacity: 1;
}
nav a.router-link-active {
  opacity: 1;
  border-bottom-color: #e8c170;
}
header :deep(.el-button) {
  color: inherit;
  --el-fill-color-light: rgb(255 255 255 / 14%);
}
main {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
@media (max-width: 620px) {
  .mark {
    font-size: 0;
  }
  header {
    gap: 6px;
  }
}
</style>
