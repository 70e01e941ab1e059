<script setup lang="ts">
import { SwitchButton } from '@element-plus/icons-vue'
import { ElMessage } from 'element-plus'
import { useI18n } from 'vue-i18n'

import { message } from '../api/client'
import { useMe } from '../composables/useMe'
import { useTogether } from '../composables/useTogether'

// Who uses the console, and who else is here, where: at the foot of the rail.
defineProps<{ narrow?: boolean }>()
const { t, te } = useI18n()
const who = useMe()
const together = useTogether()

const page = (path: string) => {
  const name = path.split('/')[1]?.split('?')[0] ?? ''
  return te(`pages.${name}`) ? t(`pages.${name}`) : path
}
async function leave() {
  try {
    await who.signOut()
  } catch (error) {
    ElMessage.error(message(error))
  }
}
</script>

<template>
  <div v-if="together.others.length > 0 && !narrow" class="others" data-test="people">
    <div class="head">{{ t('people.also-here') }}</div>
    <div v-for="p in together.others" :key="p.id" class="other" :title="p.editing ? t('people.edits', { what: p.editing.name }) : undefined">
      <i aria-hidden="true" /><b>{{ p.name }}</b><span>{{ page(p.page) }}<template v-if="p.editing">: {{ p.editing.name }}</template></span>
    </div>
  </div>
  <div v-if="who.person" class="me" data-test="me" :title="narrow ? `${who.person}, ${t(`people.roles.${who.me!.role}`)}` : undefined">
    <router-link v-if="!narrow" to="/accounts"><b>{{ who.person }}</b> {{ t(`people.roles.${who.me!.role}`) }}</router-link>
    <button type="button" :aria-label="t('people.sign-out')" :title="t('people.sign-out')" data-test="sign-out" @click="leave"><el-icon><SwitchButton /></el-icon></button>
  </div>
</template>

<style scoped>
.others,
.me {
  flex: 1 1 100%;
  min-width: 0;
  padding: 4px 9px;
  font-size: 12px;
}
.head {
  color: #cfdcd8;
  margin-bottom: 2px;
}
.other {
  display: flex;
  align-items: baseline;
  gap: 6px;
  min-width: 0;
  line-height: 1.6;
}
.other i {
  flex: none;
  width: 7px;
  height: 7px;
  border-radius: 50%;
  background: #a5d8b5;
}
.other span {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  color: #cfdcd8;
}
.me {
  display: flex;
  align-items: center;
  gap: 8px;
}
.me a {
  flex: 1;
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  color: inherit;
  text-decoration: none;
}
.me button {
  width: 30px;
  height: 30px;
  color: inherit;
  background: none;
  border: 0;
  border-radius: 6px;
  cursor: pointer;
}
.me button:hover {
  background: rgb(255 255 255 / 10%);
}
</style>
