// What was found: the sources and how complete each is, what a user decides about, and the records.
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useAcceptGathering, useGathering } from '../../api/gatherings'
import type { Gathering, GatheringDecision, GatheringDoubt } from '../../api/types'
import { Check } from '../../parts/check'
import { Key, Notice, Plate, Shown, Trouble } from '../../parts/kit'
import { Lamp, type Light } from '../../parts/lamp'
import { count, relative } from '../../parts/text'
import { Unfold } from '../../parts/unfold'
import { Doubts } from './doubts'

export const about = (d: Pick<GatheringDoubt, 'name' | 'type'>) => `${d.name} ${d.type}`

export function Found({ name }: { name: string }) {
  return (
    <Shown query={useGathering(name)}>
      {(g) => {
        if (!g) return null
        if (!g.finished_at) return <Notice light="settling" title="Looking for the records">{g.step || 'It begins.'}</Notice>
        if (g.problem) return <Notice light="alarm" title="No records were found">{g.problem}</Notice>
        return <Result key={g.id} g={g} name={name} />
      }}
    </Shown>
  )
}

const claims: Record<string, { light: Light; word: string }> = {
  complete: { light: 'settled', word: 'complete' },
  partial: { light: 'settling', word: 'incomplete' },
  unknown: { light: 'unknown', word: 'perhaps incomplete' },
  failed: { light: 'none', word: 'not possible' },
}

/** Whether a source was only looked at beside a complete one. */
const beside = (g: Gathering, s: Gathering['sources'][number]) => g.claim === 'complete' && s.kind === 'asking' && s.claim === 'unknown'

const kinds: Record<string, string> = { account: 'Account', transfer: 'Zone transfer', walk: 'NSEC chain', file: 'Zone file', asking: 'Asking for names' }

function Result({ g, name }: { g: Gathering; name: string }) {
  const [decisions, decide] = useState<Record<string, GatheringDecision>>({})
  const accept = useAcceptGathering(name)
  const moving = useSearchParams()[0].has('moving')
  const [afterwards, propose] = useState(true)
  const open = g.doubts.filter((d) => d.open && !decisions[about(d)])
  const unclear = Object.values(decisions).some((d) => d.choice === 'alias' && !d.target?.trim())
  if (accept.data) return <Accepted name={name} records={accept.data.counts.added} />
  return (
    <>
      <Plate title="Sources" aside={claims[g.claim]?.word}>
        <ul className="grid gap-2">
          {g.sources.map((s, i) => (
            <li key={i} className="flex items-start gap-3">
              <span className="mt-0.5">
                <Lamp light={beside(g, s) ? 'none' : (claims[s.claim]?.light ?? 'none')} />
              </span>
              <p className="min-w-0 wrap-anywhere">
                <span className="font-semibold">{kinds[s.kind]}</span> <span className="data">{s.name}</span>: {beside(g, s) ? 'what visitors get' : claims[s.claim]?.word}
                {s.claim !== 'failed' && `, ${count(s.sets, 'record set')}`}
                <span className="text-soft">
                  {' '}
                  · {s.why}
                  {s.asked > 0 && ` · ${count(s.asked, 'question')}`}
                </span>
              </p>
            </li>
          ))}
        </ul>
        {g.claim !== 'complete' && <p className="mt-3">Records under names that nobody tried are missing. Add names that you know above, bring the zone file, or connect the account that has the zone.</p>}
      </Plate>
      <Doubts g={g} decisions={decisions} decide={(d) => decide({ ...decisions, [about(d)]: d })} />
      <Plate title="Records" aside={`${count(g.count, 'record set')}; ${count(g.left_out.length, 'record')} of the provider left out`}>
        <Records g={g} name={name} />
        {moving && (
          <Check className="mt-3" checked={afterwards} onChange={propose}>
            Propose the records that are replaced in the draft, once no cache asks the old nameservers
          </Check>
        )}
        <div className="mt-4 flex flex-wrap items-center gap-3">
          <Key weight="main" disabled={open.length > 0 || unclear || g.count === 0} busy={accept.isPending} onClick={() => accept.mutate({ id: g.id, decisions: Object.values(decisions), afterwards: moving && afterwards })}>
            Accept as desired records
          </Key>
          <p className="text-soft">{open.length > 0 ? `${count(open.length, 'record set')} to decide about first, above.` : 'Nothing is written to a provider.'}</p>
        </div>
        {accept.error && <Trouble error={accept.error} />}
      </Plate>
    </>
  )
}

/** How many record sets are shown before the rest is unfolded. */
const shown = 40

function Records({ g, name }: { g: Gathering; name: string }) {
  const lines = (from: number, to?: number) => (
    <ul className="divide-y divide-line">
      {g.records.slice(from, to).map((set) =>
        set.data.map((data, i) => (
          <li key={`${set.name} ${set.type} ${i}`} className="data grid grid-cols-[1fr_auto] gap-x-3 py-1 sm:grid-cols-[14rem_4rem_1fr_auto]">
            <span className="font-semibold wrap-anywhere">
              {relative(set.name, name)} {set.type}
            </span>
            <span className="text-right">{set.ttl}</span>
            <span className="min-w-0 wrap-anywhere max-sm:col-span-2">{data}</span>
            <span className="font-sans text-fine text-soft max-sm:col-span-2">{set.from.join(', ')}</span>
          </li>
        )),
      )}
    </ul>
  )
  return (
    <>
      {lines(0, shown)}
      {g.records.length > shown && <Unfold summary={`${count(g.records.length - shown, 'more record set')}`}>{lines(shown)}</Unfold>}
      {g.count > g.records.length && <p className="pt-2 text-soft">And {g.count - g.records.length} more, which are accepted too.</p>}
    </>
  )
}

function Accepted({ name, records }: { name: string; records: number }) {
  return (
    <Notice light="settled" title={`Accepted: ${count(records, 'record')} of ${name}.`}>
      <p>Nothing is written to a provider yet. Next: move the domain to its new provider, step by step.</p>
      <div className="mt-3 flex flex-wrap items-center gap-4">
        <Link to={`/domains/${encodeURIComponent(name)}/handover`} className="inline-flex min-h-10 items-center rounded-key bg-action px-4 font-semibold text-on-action hover:bg-action-hover">
          Move this domain →
        </Link>
        <Link className="link" to={`/domains/${encodeURIComponent(name)}/records`}>
          Review its records
        </Link>
      </div>
    </Notice>
  )
}
