import { fileURLToPath, URL } from 'node:url'
import { defineConfig } from 'vite'

// The page of a pass is drawn by the service; this is what makes it nicer where there are scripts.
export default defineConfig({
  base: '/pass/assets/',
  publicDir: false,
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  build: {
    outDir: '../internal/face/web/dist/pass',
    emptyOutDir: true,
    rollupOptions: { input: 'src/pass/main.ts', output: { entryFileNames: 'pass.js', assetFileNames: (asset) => (asset.names?.[0]?.endsWith('.css') ? 'pass.css' : '[name][extname]'), inlineDynamicImports: true } },
  },
})
