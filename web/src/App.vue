<script setup lang="ts">
import { Menu } from '@element-plus/icons-vue'
import { ElMessage } from 'element-plus'
import { ref, watch, watchEffect } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRoute } from 'vue-router'

import { onMerged, onProposed, onWarning } from './api/client'
import { useLook } from './composables/useLook'
import { useMe } from './composables/useMe'
import { useTogether } from './composables/useTogether'
import AppRail from './frame/AppRail.vue'
import SearchDialog from './frame/SearchDialog.vue'
import SignIn from './frame/SignIn.vue'

onWarning((text) => ElMessage({ type: 'warning', message: text, duration: 12000, showClose: true }))

const { t } = useI18n()
const route = useRoute()
useLook()
onProposed((id) => ElMessage({ type: 'success', message: t('proposals.kept-as', { id }), duration: 8000, showClose: true }))
onMerged((text) => ElMessage({ type: 'info', message: t('common.merged', { text }), duration: 10000, showClose: true }))

// Who uses the console, and who else is here. A page is made once that is known, and anew for somebody else.
const who = useMe()
const together = useTogether()
void who.load()
watch(
  () => [who.me !== undefined, who.needed],
  ([known, needed]) => {
    if (known && !needed) together.start()
    else together.stop()
  },
)
const shownTo = ref<string>()
watch(
  () => who.me,
  (me) => {
    if (me && !who.needed) shownTo.value = me.open ? '' : me.account
  },
)
watch(() => route.path, (path) => together.at(path), { immediate: true })

const drawer = ref(false)
const searching = ref(false)
watch(() => route.fullPath, () => (drawer.value = false))
watchEffect(() => {
  document.title = `${route.meta.name ? t(`pages.${String(route.meta.name)}`) : 'Arithmon'} · Arithmon`
})
</script>

<template>
  <el-config-provider :message="{ showClose: true }">
    <a class="skip" href="#main">{{ t('frame.skip') }}</a>
    <div v-if="shownTo !== undefined" :key="shownTo" class="frame">
      <AppRail class="rail" @search="searching = true" />
      <header>
        <el-button text circle :icon="Menu" :aria-label="t('frame.menu')" data-test="menu" @click="drawer = true" />
        <router-link to="/overview" class="mark"><img src="/mark.svg" alt="" width="24" height="24" />Arithmon</router-link>
      </header>
      <main id="main" tabindex="-1"><router-view /></main>
    </div>
    <el-drawer v-model="drawer" direction="ltr" size="250px" :with-header="false" body-class="rail-drawer" :aria-label="t('frame.pages')">
      <AppRail wide @search="searching = true" />
    </el-drawer>
    <SearchDialog v-if="shownTo !== undefined" v-model="searching" />
    <SignIn v-if="who.needed" />
  </el-config-provider>
</template>

<style scoped>
.frame {
  display: flex;
  height: 100%;
}
main {
  flex: 1;
  min-width: 0;
  overflow: auto;
  outline: none;
}
header {
  display: none;
}
.skip {
  position: absolute;
  left: -999px;
  z-index: 9;
  padding: 8px 14px;
  background: var(--el-bg-color);
  color: var(--el-color-primary);
}
.skip:focus {
  left: 8px;
  top: 8px;
}
.mark {
  display: flex;
  align-items: center;
  gap: 8px;
  font-weight: 600;
  color: inherit;
  text-decoration: none;
}
/* A tablet or a telephone: the rail is a drawer. */
@media (max-width: 900px) {
  .frame {
    flex-direction: column;
  }
  .rail {
    display: none;
  }
  main {
    min-height: 0;
  }
  header {
    display: flex;
    align-items: center;
    gap: 10px;
    min-height: 46px;
    padding: 0 10px;
    background: var(--bar);
    color: var(--bar-text);
  }
  header :deep(.el-button) {
    color: inherit;
    --el-fill-color-light: rgb(255 255 255 / 14%);
  }
}
</style>

<style>
.rail-drawer {
  padding: 0 !important;
  background: var(--bar);
}
</style>
