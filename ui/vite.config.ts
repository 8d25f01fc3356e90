import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

const server = process.env.PROTERON_URL ?? 'http://127.0.0.1:8765'

export default defineConfig({
  plugins: [vue()],
  build: { manifest: true, target: 'es2022', assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': { target: server, changeOrigin: true, headers: { Origin: server } } } },
})
