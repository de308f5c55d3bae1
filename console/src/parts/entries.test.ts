import { expect, test } from 'vitest'
import type { Entry } from '../api/types'
import { folded } from './entries'

const line = (id: number, action: string, subject: string, detail: string, second: number): Entry => ({ id, seq: id, at: `2026-03-01T12:00:${String(second).padStart(2, '0')}Z`, actor: 'service', action, subject, detail, text: '' })

test('lines that say the same within a minute are one, also where others come in between', () => {
  const list = folded([
    line(9, 'domain.verdict', 'a.example.', 'settled, before: settling', 9),
    line(8, 'domain.seen', 'a.example.', 'new', 9),
    line(7, 'domain.verdict', 'b.example.', 'settled, before: settling', 8),
    line(6, 'domain.seen', 'b.example.', 'old', 8),
    line(5, 'domain.verdict', 'c.example.', 'settling, before: settled', 7),
    line(4, 'sync.done', 'c.example.', '', 6),
  ])
  expect(list.map((f) => [f.entry.id, ...f.more.map((e) => e.id)])).toEqual([[9, 7], [8, 6], [5], [4]])
})

test('the same an hour apart stays apart', () => {
  const late = { ...line(2, 'sync.done', 'a.example.', '', 0), at: '2026-03-01T13:00:00Z' }
  expect(folded([late, line(1, 'sync.done', 'a.example.', '', 0)])).toHaveLength(2)
})
