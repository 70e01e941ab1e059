import vue from '@vitejs/plugin-vue'
import ElementPlus from 'unplugin-element-plus/vite'
import { ElementPlusResolver } from 'unplugin-vue-components/resolvers'
import Components from 'unplugin-vue-components/vite'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  // Element Plus comes component by component, as each is used.
  plugins: [vue(), Components({ resolvers: [ElementPlusResolver({ importStyle: 'css' })], dirs: [], dts: false }), ElementPlus({})],
  build: { chunkSizeWarningLimit: 1500, reportCompressedSize: false },
  test: { testTimeout: 60_000 }, // trials take seconds, and longer on a busy machine
  // For work on the console alone: npm run dev, beside a running service.
  server: { proxy: { '/api': { target: 'http://127.0.0.1:7340', ws: true, changeOrigin: true } } },
})
