// The first page: what needs a person, what is under way and until when, what ends soon, what was done since yesterday.
import { lazy, type ReactNode, Suspense } from 'react'
import { Link } from 'react-router'
import { useToday } from '../../api/hooks'
import type { Today as TodayView } from '../../api/types'
import { EntryLine, folded } from '../../parts/entries'
import { Empty, PageHead, Plate, Shown } from '../../parts/kit'
import { EmptyHarbour } from '../../parts/pictures'
import { moment, number, plain, shown, span } from '../../parts/text'
import { Tip } from '../../parts/tip'
import { Attention } from './attention'
import { States } from './states'

const Plots = lazy(async () => ({ default: (await import('./plots')).Plots }))

export function Today() {
  const today = useToday()
  return (
    <>
      <title>Today · Agile Beacon</title>
      <PageHead title="Today" lead="What needs you, what is under way, and what ends soon." />
      <Shown query={today} rows={5}>
        {(t) => (t.states.length === 0 ? <Welcome /> : <Page today={t} />)}
      </Shown>
    </>
  )
}

function Welcome() {
  return (
    <Empty picture={<EmptyHarbour />} title="No domains yet">
      Connect the{' '}
      <Link className="link" to="/accounts">
        accounts
      </Link>{' '}
      of your registrar and DNS provider, then{' '}
      <Link className="link" to="/apply">
        add a domain
      </Link>
      .
    </Empty>
  )
}

function Page({ today: t }: { today: TodayView }) {
  return (
    <div className="grid gap-5">
      <States states={t.states} />
      <Attention items={t.attention} />
      <div className="grid items-start gap-5 lg:grid-cols-2">
        <OnTheWay today={t} />
        <Ending today={t} />
      </div>
      <Suspense fallback={<div className="h-64 rounded-plate bg-sunken" />}>
        <Plots samples={t.samples} />
      </Suspense>
      <Plate title="Since yesterday" aside={<Link className="link" to="/logbook">Logbook</Link>}>
        <p className="mb-3 text-soft">
          {number(t.done.revisions)} revisions accepted, {number(t.done.syncs)} syncs done, {number(t.done.troubled)} blocked or failed, {number(t.done.delegations)} delegations.
        </p>
        <ul className="divide-y divide-line">
          {folded(t.entries)
            .slice(0, 8)
            .map((f) => (
              <EntryLine key={f.entry.id} fold={f} />
            ))}
        </ul>
      </Plate>
    </div>
  )
}

const zonePath = (zone: string) => `/domains/${encodeURIComponent(plain(zone))}`

function Row({ zone, children, to = '' }: { zone: string; children: ReactNode; to?: string }) {
  return (
    <li className="flex flex-wrap items-baseline justify-between gap-x-4 py-1.5">
      <Link className="link font-semibold wrap-anywhere" to={zonePath(zone) + to}>
        {shown(plain(zone))}
      </Link>
      <span className="text-soft">{children}</span>
    </li>
  )
}

function OnTheWay({ today: t }: { today: TodayView }) {
  const now = Date.parse(t.simulated_at)
  return (
    <Plate title="Under way">
      {t.settling.length + t.running.length === 0 && <p className="text-soft">Nothing is under way.</p>}
      <ul className="divide-y divide-line">
        {t.settling.map((d) => (
          <Row key={d.zone} zone={d.zone}>
            {d.settles_by ? <Tip text={`by ${moment(Date.parse(d.settles_by), now)} UTC`}>settled in {span(Date.parse(d.settles_by) - now)} at the latest</Tip> : 'settles; no time is known'}
          </Row>
        ))}
        {t.running.map((r) => (
          <Row key={r.kind + r.id} zone={r.zone} to={r.kind === 'sync' ? '/changes' : '/delegation'}>
            {r.kind} {r.id}: {r.state}
          </Row>
        ))}
      </ul>
    </Plate>
  )
}

function Ending({ today: t }: { today: TodayView }) {
  const now = Date.parse(t.simulated_at)
  return (
    <Plate title="Ends soon">
      {t.ending.length === 0 && <p className="text-soft">No registration, certificate or signature ends soon.</p>}
      <ul className="divide-y divide-line">
        {t.ending.map((e) => (
          <Row key={e.zone + e.code + e.subject} zone={e.zone}>
            {e.code.replace(/-ends-soon$/, '').replaceAll('-', ' ')} ends on {e.ends_at.slice(0, 10)}, in {span(Date.parse(e.ends_at) - now)}
          </Row>
        ))}
      </ul>
    </Plate>
  )
}
