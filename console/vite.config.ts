import tailwind from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vitest/config'

// Everything that is loaded comes from the service itself: nothing is written into the page, and no asset becomes a
// data: address, which the Content-Security-Policy would refuse.
export default defineConfig({
  plugins: [react(), tailwind()],
  build: { target: 'es2023', assetsInlineLimit: 0, modulePreload: { polyfill: false }, emptyOutDir: false, reportCompressedSize: true },
  server: { proxy: { '/api': process.env.BEACON_ADDRESS ?? 'http://127.0.0.1:8053' } },
  test: { include: ['src/**/*.test.ts'] },
})
