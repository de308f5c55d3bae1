// Records that go and records that come.
import type { DnsRecord } from '../api/types'
import { relative } from './text'

/** From names the kit that each added record comes from. */
export function RecordLines({ zone, added, removed, from = [] }: { zone: string; added: DnsRecord[]; removed: DnsRecord[]; from?: string[] }) {
  return (
    <ul className="overflow-hidden rounded-key border border-line">
      {removed.map((r, i) => (
        <Line key={'-' + i} sign="−" word="removed" record={r} zone={zone} tone="bg-alarm-wash" />
      ))}
      {added.map((r, i) => (
        <Line key={'+' + i} sign="+" word="added" record={r} zone={zone} tone="bg-settled-wash" from={from[i]} />
      ))}
    </ul>
  )
}

function Line({ sign, word, record: r, zone, tone, from }: { sign: string; word: string; record: DnsRecord; zone: string; tone: string; from?: string }) {
  return (
    <li className={`data grid grid-cols-[1rem_1fr_auto] gap-x-3 border-b border-line px-3 py-1 last:border-0 sm:grid-cols-[1rem_12rem_4rem_1fr] ${tone}`}>
      <span aria-hidden="true" className="font-semibold">
        {sign}
      </span>
      <span className="sr-only">{word}</span>
      <span className="font-semibold">
        {relative(r.name, zone)} {r.type}
      </span>
      <span className="text-right">{r.ttl}</span>
      <span className="max-sm:col-span-2 max-sm:col-start-2">
        {r.data}
        {from && <span className="font-sans"> (kit {from})</span>}
      </span>
    </li>
  )
}
