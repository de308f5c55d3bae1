import { describe, expect, it } from 'vitest'
import type { DnsRecord, Draft, Found } from '../../../api/types'
import { gravest, rowsOf, unplaced } from './merge'

const zone = 'saltmarsh-ferries.example'
const rec = (name: string, type: string, data: string, ttl = 60): DnsRecord => ({ name: name === '@' ? zone + '.' : `${name}.${zone}.`, type, ttl, data })
const found = (name: string, type: string, severity: string) => ({ code: 'x', severity, key: { name: `${name}.${zone}.`, type } }) as unknown as Found
const draft = (d: Partial<Draft>) => ({ added: [], removed: [], findings: [], edits: [], from: {}, ...d }) as unknown as Draft
const shown = (rows: ReturnType<typeof rowsOf>) => rows.map((r) => `${r.state} ${r.name} ${r.record.type} ${r.record.data}${r.findings.length ? ' !' + r.findings.length : ''}`)

describe('rowsOf', () => {
  const records = [rec('@', 'A', '192.0.2.1'), rec('cam', 'A', '192.0.2.2'), rec('cam', 'A', '192.0.2.3'), rec('www', 'CNAME', zone + '.')]

  it('shows the records as they are where there is no draft', () => {
    expect(shown(rowsOf(zone, records, undefined))).toEqual(['same @ A 192.0.2.1', 'same cam A 192.0.2.2', 'same cam A 192.0.2.3', `same www CNAME ${zone}.`])
  })

  it('puts what is added behind its set, new sets on top, and keeps what is taken out', () => {
    const d = draft({ added: [rec('cam', 'A', '192.0.2.9'), rec('gate', 'A', '192.0.2.7')], removed: [rec('cam', 'A', '192.0.2.3')] })
    expect(shown(rowsOf(zone, records, d))).toEqual([
      'added gate A 192.0.2.7', 'same @ A 192.0.2.1', 'same cam A 192.0.2.2', 'removed cam A 192.0.2.3', 'added cam A 192.0.2.9', `same www CNAME ${zone}.`,
    ])
  })

  it('says which kit a set comes from', () => {
    const rows = rowsOf(zone, records, draft({ from: { [`www.${zone}. CNAME`]: 'pier-site' } }))
    expect(rows.map((r) => r.kit)).toEqual(['', '', '', 'pier-site'])
  })

  it('shows findings once, at the first record of their set that stays', () => {
    const findings = [found('cam', 'A', 'warning'), found('nowhere', 'A', 'notice')]
    const rows = rowsOf(zone, records, draft({ findings, removed: [rec('cam', 'A', '192.0.2.2')] }))
    expect(shown(rows)).toContain('same cam A 192.0.2.3 !1')
    expect(unplaced(rows, findings)).toEqual([findings[1]])
  })
})

it('marks a row by its gravest finding', () => {
  expect(gravest([])).toBe('')
  expect(gravest([found('a', 'A', 'notice'), found('a', 'A', 'error')])).toBe('error')
})
