import 'element-plus/theme-chalk/base.css'
import 'element-plus/theme-chalk/dark/css-vars.css'
import './theme.css'

import { createPinia } from 'pinia'
import { createApp } from 'vue'

import { followHands } from './api/client'
import App from './App.vue'
import { i18n } from './language'
import { router } from './router'

followHands()
createApp(App).use(createPinia()).use(i18n).use(router).mount('#app')
