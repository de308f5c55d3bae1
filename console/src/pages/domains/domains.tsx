// The first page: every domain with where it stands, and what the registrars hold besides.
import { Link } from 'react-router'
import { useWorld } from '../../api/clock'
import { useAccounts, useDomains, useRegistrations } from '../../api/hooks'
import type { Domain } from '../../api/types'
import { Empty, PageHead, Plate, Shown } from '../../parts/kit'
import { Lamp, standing } from '../../parts/lamp'
import { EmptyHarbour } from '../../parts/pictures'
import { plain, shown, span } from '../../parts/text'

export function Domains() {
  const domains = useDomains()
  return (
    <>
      <title>Domains · Agile Beacon</title>
      <PageHead title="Domains" lead="Where each one stands: settled, on its way, or in need of you.">
        <Link to="/define" className="inline-flex min-h-10 items-center rounded-key bg-action px-4 font-semibold text-on-action hover:bg-action-hover">
          Bring a domain in
        </Link>
      </PageHead>
      <Shown query={domains}>
        {({ items }) => (
          <>
            {items.length === 0 ? (
              <Empty picture={<EmptyHarbour />} title="No domain is looked after yet">
                A domain comes in with a definition: what its zone should contain, and which provider shall serve it. Begin with one that your registrar holds, below, or{' '}
                <Link className="link" to="/define">
                  write a definition
                </Link>
                .
              </Empty>
            ) : (
              <ul className="grid gap-3">{items.map((d) => <Row key={d.name} domain={d} />)}</ul>
            )}
            <AtRegistrars known={items.map((d) => d.name)} />
          </>
        )}
      </Shown>
    </>
  )
}

function Row({ domain }: { domain: Domain }) {
  const { light, word, sentence } = standing(domain.verdict)
  return (
    <li className="plate relative p-4 hover:border-accent">
      <div className="flex flex-wrap items-start gap-x-4 gap-y-2">
        <Lamp light={light} size={26} />
        <div className="min-w-0 flex-1 basis-60">
          <Link to={`/domains/${plain(domain.name)}`} className="text-lead font-semibold wrap-anywhere after:absolute after:inset-0">
            {shown(plain(domain.name))}
          </Link>
          <p className="text-soft">{domain.label}</p>
        </div>
        <div className="basis-44">
          <p className="font-semibold">{word}</p>
          <p className="text-soft">{domain.settles_by && light === 'settling' ? <Remaining by={domain.settles_by} /> : sentence}</p>
        </div>
        <dl className="grid basis-52 grid-cols-[auto_1fr] gap-x-3 text-fine">
          <dt className="text-soft">registered at</dt>
          <dd>{domain.registrar || 'not said'}</dd>
          <dt className="text-soft">served at</dt>
          <dd>{domain.at.join(', ') || 'nowhere yet'}</dd>
        </dl>
      </div>
    </li>
  )
}

function Remaining({ by }: { by: string }) {
  const world = useWorld(500)
  if (!world) return null
  return <>settled in {span(Date.parse(by) - world.now)} at the latest</>
}

/** What the registrars hold that nobody looks after here: the natural place to begin. */
function AtRegistrars({ known }: { known: string[] }) {
  const accounts = useAccounts('registrar')
  return accounts.data?.items.map((a) => <AtRegistrar key={a.name} account={a.name} known={known} />)
}

function AtRegistrar({ account, known }: { account: string; known: string[] }) {
  const query = useRegistrations(account)
  const items = query.data?.items.filter((r) => !known.includes(r.name)) ?? []
  if (query.data && items.length === 0) return null
  return (
    <Plate className="mt-6" title={`Registered at ${account}, not looked after here`}>
      <Shown query={query} rows={1}>
        {() => (
          <ul className="divide-y divide-line">
            {items.map((r) => (
              <li key={r.name} className="flex flex-wrap items-center justify-between gap-3 py-2.5">
                <div className="min-w-0">
                  <p className="font-semibold wrap-anywhere">{plain(r.name)}</p>
                  <p className="data text-soft">{r.active.map(plain).join(', ')}</p>
                </div>
                <Link
                  to={`/define?zone=${plain(r.name)}&registrar=${account}`}
                  className="inline-flex min-h-10 items-center rounded-key border border-line-strong px-4 font-semibold hover:border-accent hover:text-accent"
                >
                  Bring in<span className="sr-only"> {plain(r.name)}</span>
                </Link>
              </li>
            ))}
          </ul>
        )}
      </Shown>
    </Plate>
  )
}
