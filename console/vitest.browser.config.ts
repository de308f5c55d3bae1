import { defineConfig } from 'vitest/config'

// Against a running service, which the end-to-end tests start: its address, password and control come as CONSOLE_*.
export default defineConfig({ test: { include: ['browser/*.test.ts'], testTimeout: 90_000, hookTimeout: 60_000, fileParallelism: false, bail: 1 } })
