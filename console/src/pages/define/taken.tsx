// What a definition does to one zone.
import type { Defined, DnsRecord } from '../../api/types'
import { Findings } from '../../parts/findings'
import { Plate } from '../../parts/kit'
import { count, plain, relative } from '../../parts/text'

export function Taken({ defined: d }: { defined: Defined }) {
  return (
    <Plate title={plain(d.zone)} aside={d.new ? 'new here' : 'looked after already'}>
      <p>
        {count(d.added.length, 'record')} added, {d.removed.length} removed, {d.same} as before.
      </p>
      <p className="text-soft">
        Served at {d.at.join(', ') || 'no provider'}
        {d.new_at.length > 0 && ` (new: ${d.new_at.join(', ')})`}
        {d.registrar && `; registered at ${d.registrar}`}.
      </p>
      {d.added.length + d.removed.length > 0 && (
        <details className="mt-2" open={d.added.length + d.removed.length <= 40}>
          <summary className="font-semibold text-accent">The records</summary>
          <ul className="mt-2 overflow-hidden rounded-key border border-line">
            {d.removed.map((r, i) => (
              <Line key={'-' + i} sign="−" word="removed" record={r} zone={d.zone} tone="bg-wrong-wash" />
            ))}
            {d.added.map((r, i) => (
              <Line key={'+' + i} sign="+" word="added" record={r} zone={d.zone} tone="bg-settled-wash" />
            ))}
          </ul>
        </details>
      )}
      {d.findings.length > 0 && (
        <div className="mt-4">
          <h3 className="mb-2 font-semibold">What the rules say of it</h3>
          <Findings list={d.findings} />
        </div>
      )}
    </Plate>
  )
}

function Line({ sign, word, record: r, zone, tone }: { sign: string; word: string; record: DnsRecord; zone: string; tone: string }) {
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
      <span className="max-sm:col-span-2 max-sm:col-start-2">{r.data}</span>
    </li>
  )
}
