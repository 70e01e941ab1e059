import 'element-plus/theme-chalk/base.css'
import 'element-plus/theme-chalk/dark/css-vars.css'
import './theme.css'

import { createPinia } from 'pinia'
import { createApp } from 'vue'

import App from './App.vue'
import { i18n } from './language'
import { router } from './router'

createApp(App).use(createPinia()).use(i18n).use(router).mount('#app')
