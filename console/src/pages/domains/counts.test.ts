import { expect, test } from 'vitest'
import type { DomainCount } from '../../api/types'
import { commonest } from './counts'
import { counted } from './look'

const counts: DomainCount[] = [
  { verdict: 'needs-action', gravest: 'no-tcp', domains: 1 },
  { verdict: 'needs-action', gravest: 'nameserver-lame', domains: 2 },
  { verdict: 'settling', gravest: 'no-tcp', domains: 3 },
  { verdict: 'settled', gravest: '', domains: 9 },
]

test('findings are counted over all states, the commonest first', () =>
  expect(commonest(counts, null)).toEqual([
    ['no-tcp', 4],
    ['nameserver-lame', 2],
  ]))
test('or in one state', () =>
  expect(commonest(counts, 'needs-action')).toEqual([
    ['nameserver-lame', 2],
    ['no-tcp', 1],
  ]))
test('the outcome of a check of all is told in words', () => expect(counted({ 'needs-action': 1, settled: 3 })).toBe('3 settled, 1 needs action'))
