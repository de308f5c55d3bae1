import { expect, test } from 'vitest'
import { outOfDate } from './events'

test.each([
  ['domain.verdict', 'a.example.', ['domains', 'logbook']],
  ['delegation.activate', 'a.example.', ['domains', 'logbook']],
  ['records.written', 'a.example.', ['zones a.example', 'zones a.example.', 'domains', 'syncs', 'logbook']],
  ['host.visible', 'cam.a.example.', ['hosts', 'zones', 'logbook']],
  ['person.signed-in', 'keeper', ['logbook']],
])('%s about %s makes out of date what it changed', (action, subject, keys) => {
  expect(outOfDate({ action, subject }).map((k) => k.join(' '))).toEqual(keys)
})
