// What a provider can do, in words.
import type { Account } from '../../api/types'

type Caps = NonNullable<Account['caps']>

const span = (nanoseconds: number) => (nanoseconds >= 1e9 ? `${nanoseconds / 1e9} s` : `${Math.round(nanoseconds / 1e6)} ms`)

export function can(c: Caps): string[] {
  const list: string[] = []
  const what = { set: 'record sets', record: 'single records', zone: 'the whole zone in one request' }[c.granularity as 'set' | 'record' | 'zone']
  list.push(c.granularity === 'zone' ? `takes ${what}` : `takes ${what}, ${c.batch_size > 0 ? `at most ${c.batch_size} in a request` : 'any number in a request'}`)
  if (!c.atomic) list.push('does the changes of a request one after the other')
  if (c.delayed) list.push('accepts changes first and does them later')
  if (c.read_lag) list.push(`shows changes to readers up to ${span(c.read_lag)} later`)
  if (c.parallel) list.push(`takes changes of ${c.parallel} zones at the same time`)
  if (c.ttl_floor > 0) list.push(`has a least TTL of ${c.ttl_floor} s`)
  if (c.ttl_steps?.length) list.push(`knows TTLs of ${c.ttl_steps.join(', ')} s only`)
  if (c.texts === 'joined') list.push('keeps TXT as one text')
  if (c.texts === 'single') list.push('keeps TXT as one string of at most 255 octets')
  if (c.apex_alias) list.push('has an ALIAS for the apex')
  if (c.soa?.length) list.push(`takes these fields of the SOA record: ${c.soa.join(', ')}`)
  for (const e of c.attributes ?? []) list.push(`has the attribute ${e.name} (${e.description})`)
  return list
}
