import { expect, test } from 'vitest'
import type { FleetDomain } from '../../api/types'
import { narrowed } from './fleet'

const items: FleetDomain[] = [
  { name: 'b.example.', verdict: 'settled', settles_by: null, checked_at: null, gravest: '' },
  { name: 'a.example.', verdict: 'settled', settles_by: null, checked_at: null, gravest: '' },
  { name: 'c.example.', verdict: 'wrong', settles_by: null, checked_at: null, gravest: 'nameserver-lame' },
]
const names = (list: FleetDomain[]) => list.map((d) => d.name[0]).join('')

test('the gravest come first, then by name', () => expect(names(narrowed(items, null, ''))).toBe('cab'))
test('by verdict', () => expect(names(narrowed(items, 'settled', ''))).toBe('ab'))
test('by a part of the name, in any case', () => expect(names(narrowed(items, null, ' B.EX'))).toBe('b'))
