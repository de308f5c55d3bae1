import { expect, test } from 'vitest'
import type { FleetDomain } from '../../api/types'
import { commonest, narrowed } from './fleet'
import { counted } from './look'

const items: FleetDomain[] = [
  { name: 'b.example.', verdict: 'settled', settles_by: null, checked_at: null, gravest: '' },
  { name: 'a.example.', verdict: 'settled', settles_by: null, checked_at: null, gravest: '' },
  { name: 'c.example.', verdict: 'wrong', settles_by: null, checked_at: null, gravest: 'nameserver-lame' },
]
const names = (list: FleetDomain[]) => list.map((d) => d.name[0]).join('')

test('the gravest come first, then by name', () => expect(names(narrowed(items, null, null, ''))).toBe('cab'))
test('by verdict', () => expect(names(narrowed(items, 'settled', null, ''))).toBe('ab'))
test('by a part of the name, in any case', () => expect(names(narrowed(items, null, null, ' B.EX'))).toBe('b'))
test('by what was found', () => expect(names(narrowed(items, null, 'nameserver-lame', ''))).toBe('c'))
test('what was found is counted, the commonest first', () => {
  const found = (gravest: string): FleetDomain => ({ name: 'd.example.', verdict: 'wrong', settles_by: null, checked_at: null, gravest })
  expect(commonest([found('no-tcp'), found('nameserver-lame'), found(''), found('nameserver-lame')])).toEqual([
    ['nameserver-lame', 2],
    ['no-tcp', 1],
  ])
})
test('what a look came to is told in words', () => expect(counted({ wrong: 1, settled: 3 })).toBe('3 settled, 1 wrong'))
