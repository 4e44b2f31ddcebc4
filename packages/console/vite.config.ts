import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import vuetify from 'vite-plugin-vuetify'

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  logLevel: 'warn',
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 1500 },
  // For work on the console itself, beside a running service.
  server: { proxy: { '/v1': process.env['LEDGERMAN_URL'] ?? 'http://127.0.0.1:4680' } },
})
