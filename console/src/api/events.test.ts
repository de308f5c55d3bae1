import { expect, test } from 'vitest'
import { outOfDate, withNews } from './events'
import type { Entry } from './types'

test.each([
  ['domain.verdict', 'a.example.', ['domains']],
  ['delegate.done', 'a.example.', ['domains', 'acts']],
  ['records.written', 'a.example.', ['zones a.example', 'zones a.example.', 'domains']],
  ['host.visible', 'cam.a.example.', ['hosts', 'locations', 'zones']],
  ['user.signed-in', 'admin', ['users', 'tokens']],
  ['request', 'heron-main', []],
])('%s about %s makes out of date what it changed', (action, subject, keys) => {
  expect(outOfDate({ action, subject }).map((k) => k.join(' '))).toEqual(keys)
})

const entry = (id: number, subject = 'a.') => ({ id, subject }) as Entry
const ids = (page: { items: Entry[] }) => page.items.map((e) => e.id)

test('news come on top, each once, and only what the page is about', () => {
  const page = { items: [entry(3), entry(2)], next: '' }
  expect(ids(withNews(page, [entry(3), entry(4), entry(5, 'b.')], ''))).toEqual([5, 4, 3, 2])
  expect(ids(withNews(page, [entry(4), entry(5, 'b.')], 'a.'))).toEqual([4, 3, 2])
  expect(withNews(page, [entry(5, 'b.')], 'a.')).toBe(page) // nothing new is nothing to draw
  expect(withNews(page, Array.from({ length: 500 }, (_, i) => entry(10 + i)), '').items).toHaveLength(100)
})
