// The first page: how many domains are in which state, and every domain, narrowed down by state, finding and name.
import { useDeferredValue } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useDomainCounts } from '../../api/hooks'
import type { DomainCount } from '../../api/types'
import { Empty, PageHead, Shown } from '../../parts/kit'
import { EmptyHarbour } from '../../parts/pictures'
import { Findings, States } from './counts'
import { Attention, List } from './list'
import { LookAtAll } from './look'
import { AtRegistrars } from './registrars'

export function Domains() {
  const counts = useDomainCounts()
  return (
    <>
      <title>Domains · Agile Beacon</title>
      <PageHead title="Domains" lead="Every domain and its state.">
        <div className="flex flex-wrap items-start justify-end gap-3">
          {(counts.data?.total ?? 0) > 0 && <LookAtAll />}
          <Link to="/apply" className="inline-flex min-h-10 items-center rounded-key bg-action px-4 font-semibold text-on-action hover:bg-action-hover">
            Add a domain
          </Link>
        </div>
      </PageHead>
      <Shown query={counts}>
        {({ total, counts }) =>
          total === 0 ? (
            <Empty picture={<EmptyHarbour />} title="No domains yet">
              A domain comes in with a definition: the records of its zone, and the provider that serves it. Begin with one that your registrar holds, below, or{' '}
              <Link className="link" to="/apply">
                write a definition
              </Link>
              .
            </Empty>
          ) : (
            <All counts={counts} />
          )
        }
      </Shown>
      <AtRegistrars />
    </>
  )
}

function All({ counts }: { counts: DomainCount[] }) {
  const [params, setParams] = useSearchParams()
  const verdict = params.get('verdict')
  const finding = params.get('finding')
  const text = params.get('name') ?? ''
  const name = useDeferredValue(text.trim().toLowerCase())
  const narrow = (to: Record<string, string | null>, replace = false) =>
    setParams(Object.entries({ verdict, finding, name: text || null, ...to }).filter((e): e is [string, string] => e[1] !== null), { replace })
  return (
    <div className="grid gap-4">
      <States counts={counts} chosen={verdict} choose={(v) => narrow({ verdict: v, finding: null })} />
      <Findings counts={counts} verdict={verdict} chosen={finding} choose={(code) => narrow({ finding: code })} />
      <label className="grid max-w-sm gap-1">
        <span className="text-fine font-semibold text-soft">Part of a name</span>
        <input value={text} onChange={(e) => narrow({ name: e.target.value || null }, true)} className="field" />
      </label>
      {verdict === null && finding === null && name === '' && (
        <Attention total={counts.filter((c) => c.verdict === 'needs-action').reduce((sum, c) => sum + c.domains, 0)} all={() => narrow({ verdict: 'needs-action' })} />
      )}
      <List verdict={verdict} finding={finding} name={name} />
    </div>
  )
}
