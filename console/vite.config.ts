import vue from '@vitejs/plugin-vue'
import { fileURLToPath, URL } from 'node:url'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  base: '/console/',
  plugins: [vue()],
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  build: { outDir: '../internal/face/web/dist', emptyOutDir: true, chunkSizeWarningLimit: 700 },
  test: { environment: 'jsdom' },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
