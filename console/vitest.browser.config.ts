import { defineConfig } from 'vitest/config'

// Against a running service, which the end-to-end tests start: its address, password and control come as CONSOLE_*.
// CONSOLE_MEASURE measures instead of testing.
const include = [process.env.CONSOLE_MEASURE ? 'browser/*.measure.ts' : 'browser/*.test.ts']

export default defineConfig({ test: { include, testTimeout: 120_000, hookTimeout: 60_000, fileParallelism: false, bail: 1, expect: { poll: { timeout: 20_000 } } } })
