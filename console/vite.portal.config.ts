import vue from '@vitejs/plugin-vue'
import { fileURLToPath, URL } from 'node:url'
import { defineConfig } from 'vite'

// The portal is a page of its own, for listeners that don't serve the console.
export default defineConfig({
  base: '/portal/',
  publicDir: false,
  plugins: [vue()],
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  build: { outDir: '../internal/face/web/dist/portal', emptyOutDir: true, rollupOptions: { input: 'portal.html' } },
})
