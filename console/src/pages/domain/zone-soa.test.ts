import { expect, test } from 'vitest'
import { timeOf } from './zone-soa'

test('times are seconds, or numbers with units', () => {
  for (const [text, seconds] of [['300', 300], ['5m', 300], [' 1h30m ', 5400], ['1W', 604800], ['', undefined]] as const) expect(timeOf(text), text).toBe(seconds)
  for (const text of ['soon', '5x', '-1', '5 m', 'm']) expect(timeOf(text), text).toBeNaN()
})
