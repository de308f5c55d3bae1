import { expect, test } from 'vitest'
import type { TodaySample } from '../../api/types'
import { points } from './points'

const sample = (hour: number, more: Partial<TodaySample> = {}): TodaySample => ({
  at: new Date(Date.UTC(2026, 2, 1, hour)).toISOString(), domains: { settled: hour }, revisions: 1, syncs: 2, sync_ms: null, check_ms: null, ...more,
})

test('thirty days of hours become points that add up', () => {
  const list = points(Array.from({ length: 720 }, (_, i) => sample(i)))
  expect(list.length).toBeLessThanOrEqual(120)
  expect(list.reduce((sum, p) => sum + p.changes, 0)).toBe(720)
  expect(list.reduce((sum, p) => sum + p.syncs, 0)).toBe(1440)
  expect(list.at(-1)!['settled']).toBe(719)
})

test('times without a measurement are left out', () => {
  expect(points([sample(0), sample(1, { sync_ms: 1500, check_ms: 200 })]).map((p) => [p.sync, p.check])).toEqual([[undefined, undefined], [1.5, 0.2]])
})
