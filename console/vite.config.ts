import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 700 },
  worker: { format: 'es' },
  server: { proxy: { '/api': { target: 'https://127.0.0.1:7410', secure: false } } },
  test: { environment: 'jsdom', include: ['src/**/*.test.ts'] },
})
