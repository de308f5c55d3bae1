// The first page: how many domains are in which state, and every domain, narrowed down by state, finding and name.
import { useDeferredValue, useId } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useDomainCounts } from '../../api/hooks'
import type { DomainCount } from '../../api/types'
import { Empty, PageHead, Shown } from '../../parts/kit'
import { EmptyHarbour } from '../../parts/pictures'
import { Choice } from '../../parts/select'
import { Findings, States } from './counts'
import { Attention, List } from './list'
import { LookAtAll } from './look'
import { AtRegistrars } from './registrars'

export function Domains() {
  const counts = useDomainCounts()
  return (
    <>
      <title>Domains · Agile Beacon</title>
      <PageHead title="Domains" lead="Every domain and its state. The address of this page keeps filters and order: bookmark it as a view.">
        <div className="flex flex-wrap items-start justify-end gap-3">
          {(counts.data?.total ?? 0) > 0 && <LookAtAll />}
          <Link to="/add" className="inline-flex min-h-10 items-center rounded-key bg-action px-4 font-semibold text-on-action hover:bg-action-hover">
            Add a domain
          </Link>
        </div>
      </PageHead>
      <Shown query={counts}>
        {({ total, counts }) =>
          total === 0 ? (
            <Empty picture={<EmptyHarbour />} title="No domains yet">
              Begin with one that your registrar holds, below, or{' '}
              <Link className="link" to="/add">
                add any other
              </Link>
              : its records are found where it is served now.
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

const orders = [
  { value: '', label: 'by name' },
  { value: 'settles_by', label: 'settled first' },
  { value: 'checked_at', label: 'oldest check first' },
]

function All({ counts }: { counts: DomainCount[] }) {
  const [params, setParams] = useSearchParams()
  const verdict = params.get('verdict')
  const finding = params.get('finding')
  const text = params.get('name') ?? ''
  const sort = params.get('sort') ?? ''
  const id = useId()
  const name = useDeferredValue(text.trim().toLowerCase())
  const narrow = (to: Record<string, string | null>, replace = false) =>
    setParams(Object.entries({ verdict, finding, name: text || null, sort: sort || null, ...to }).filter((e): e is [string, string] => e[1] !== null), { replace })
  return (
    <div className="grid gap-4">
      <States counts={counts} chosen={verdict} choose={(v) => narrow({ verdict: v, finding: null })} />
      <Findings counts={counts} verdict={verdict} chosen={finding} choose={(code) => narrow({ finding: code })} />
      <div className="grid max-w-2xl gap-3 sm:grid-cols-2">
        <label className="grid gap-1">
          <span className="text-fine font-semibold text-soft">Part of a name</span>
          <input value={text} onChange={(e) => narrow({ name: e.target.value || null }, true)} className="field" />
        </label>
        <div className="grid gap-1">
          <label htmlFor={id} className="text-fine font-semibold text-soft">
            Order
          </label>
          <Choice id={id} value={sort} options={orders} onChange={(v) => narrow({ sort: v || null }, true)} />
        </div>
      </div>
      {verdict === null && finding === null && name === '' && sort === '' && (
        <Attention total={counts.filter((c) => c.verdict === 'needs-action').reduce((sum, c) => sum + c.domains, 0)} all={() => narrow({ verdict: 'needs-action' })} />
      )}
      <List verdict={verdict} finding={finding} name={name} sort={sort} />
    </div>
  )
}
