// The rows of the records page: what the zone should contain as the draft has it, with what the draft takes out still shown, and
// with the findings beside the sets that they concern.
import type { DnsRecord, Draft, Found } from '../../../api/types'
import { plain, relative } from '../../../parts/text'

export type Row = {
  id: string
  record: DnsRecord
  state: 'same' | 'added' | 'removed'
  name: string // relative to the zone
  text: string // that it is found by
  findings: Found[] // shown at the first row of their set
  kit: string // that it comes from; empty for the zone's own
}

const keyOf = (r: { name: string; type: string }) => `${plain(r.name)} ${r.type}`
const idOf = (r: DnsRecord) => `${keyOf(r)} ${r.ttl} ${r.data}`

/** Puts rows together. Records of the service come in their canonical order, which is kept. */
export function rowsOf(zone: string, records: DnsRecord[], draft: Draft | undefined): Row[] {
  const gone = new Set(draft?.removed.map(idOf))
  const added = new Map<string, DnsRecord[]>()
  for (const r of draft?.added ?? []) added.set(keyOf(r), [...(added.get(keyOf(r)) ?? []), r])
  const found = new Map<string, Found[]>()
  for (const f of draft?.findings ?? []) {
    const key = keyOf(f.key)
    found.set(key, [...(found.get(key) ?? []), f])
  }
  const rows: Row[] = []
  const put = (record: DnsRecord, state: Row['state']) => {
    const name = relative(record.name, zone)
    const key = keyOf(record)
    const findings = state === 'removed' ? [] : (found.get(key) ?? [])
    if (state !== 'removed') found.delete(key)
    rows.push({ id: `${state} ${idOf(record)}`, record, state, name, text: `${name} ${record.type} ${record.data}`.toLowerCase(), findings, kit: state === 'same' ? (draft?.from[`${record.name} ${record.type}`] ?? '') : '' })
  }
  let last = ''
  for (const r of records) {
    const key = keyOf(r)
    if (last !== key) flush(last)
    last = key
    put(r, gone.has(idOf(r)) ? 'removed' : 'same')
  }
  flush(last)
  function flush(key: string) {
    for (const r of added.get(key) ?? []) put(r, 'added')
    added.delete(key)
  }
  // Sets that are new as a whole stand on top, where they were just put.
  const fresh = [...added.values()].flat()
  const rest = rows.splice(0)
  for (const r of fresh) put(r, 'added')
  return [...rows, ...rest]
}

/** Findings of sets that have no row: what is missing. */
export function unplaced(rows: Row[], findings: Found[]): Found[] {
  const shown = new Set(rows.flatMap((r) => r.findings))
  return findings.filter((f) => !shown.has(f))
}

/** The gravest of some findings decides how a row is marked. */
export function gravest(findings: Found[]): 'error' | 'warning' | 'notice' | '' {
  for (const s of ['error', 'warning', 'notice'] as const) if (findings.some((f) => f.severity === s)) return s
  return ''
}
