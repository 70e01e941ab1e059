import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue()],
  build: { chunkSizeWarningLimit: 1500, reportCompressedSize: false },
  // For work on the console alone: npm run dev, beside a running service.
  server: { proxy: { '/api': { target: 'http://127.0.0.1:7340', ws: true, changeOrigin: true } } },
})
