// One host: its state, and how each change of its address arrived.
import { memo, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { useWorld } from '../../api/clock'
import { useChangeHost, useHost, useRemoveHost } from '../../api/hooks'
import type { Host, HostReport } from '../../api/types'
import { Confirm } from '../../parts/confirm'
import { Growing } from '../../parts/growing'
import { Key, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { Tag } from '../../parts/lamp'
import { moment, plain, span, wall } from '../../parts/text'
import { Keys } from './keys'
import { after, progress, state } from './progress'
import { PolicyPlate } from './policy'
import { Uplinks } from './uplinks'

export function HostPage() {
  const name = plain(useParams().name ?? '')
  const remove = useRemoveHost()
  const host = useHost(name, !remove.isPending && !remove.isSuccess) // what is being removed is not asked for
  return (
    <>
      <title>{`${name} · Agile Beacon`}</title>
      <Shown query={host}>
        {(h) => (
          <>
            <PageHead
              title={name}
              lead={
                <>
                  In the zone{' '}
                  <Link className="link" to={`/domains/${encodeURIComponent(plain(h.zone))}/records`}>
                    {plain(h.zone)}
                  </Link>
                  . {h.seen_at ? `Last reported ${wall(h.seen_at)}.` : 'It has not reported yet.'}
                </>
              }
            >
              <Remove name={name} zone={plain(h.zone)} remove={remove} />
            </PageHead>
            <dl className="plate mb-5 grid gap-4 p-4 sm:grid-cols-3">
              <Fact term="IPv4 (A)">{h.follows.v4 ? h.v4 || 'not reported yet' : 'not followed'}</Fact>
              <Fact term="IPv6 (AAAA)">{h.follows.v6 ? h.v6 || 'not reported yet' : 'not followed'}</Fact>
              <Fact term="TTL">{h.ttl} s</Fact>
            </dl>
            <Now host={h} />
            <Plate title="Reports" aside="what was new or refused; the same address again is not listed">
              {h.reports.length === 0 ? (
                <p className="text-soft">None yet. The host reports with its token: beacon host report, or one HTTP request from its router.</p>
              ) : (
                <Growing items={h.reports} by={20} older="Older reports" className="divide-y divide-line">
                  {(r, i) => <ReportLine key={r.reported_at} report={r} newest={i === 0} />}
                </Growing>
              )}
            </Plate>
            <Policy host={h} />
            {!h.location && <Keys of={[name]} />}
          </>
        )}
      </Shown>
    </>
  )
}

/** How the host is, and by which uplink. */
function Now({ host: h }: { host: Host }) {
  const world = useWorld(1000)
  const { light, word } = state(h)
  const at = (t: string | null) => (t && world ? moment(Date.parse(t), world.now) : '')
  return (
    <Plate className="mb-5">
      <p className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <Tag light={light}>{word}</Tag>
        {h.waiting && (
          <span>
            <span className="data font-semibold">{h.waiting}</span> is taken at {at(h.until)}
          </span>
        )}
        {h.silent && <span>since {at(h.silent)}</span>}
        {!h.silent && !h.waiting && h.since && <span className="text-soft">this address since {at(h.since)}</span>}
      </p>
      {h.location && (
        <>
          <p className="mt-3">
            It follows location{' '}
            <Link className="link" to={`/locations/${h.location}`}>
              {h.location}
            </Link>
            {h.uplink && <>, now by uplink {h.uplink}</>}.
            {h.below && (
              <>
                {' '}
                Its IPv6 address is <span className="data">{h.below.interface}</span> in network {h.below.subnet} below the prefix of the uplink.
              </>
            )}
          </p>
          <Uplinks list={h.uplinks ?? []} />
        </>
      )}
    </Plate>
  )
}

function Policy({ host: h }: { host: Host }) {
  const change = useChangeHost(h)
  return <PolicyPlate own={h.policy ?? {}} holds={h.rules} aside={h.location ? `what it does not set is inherited from location ${h.location}` : 'of this dynamic host'} className="mt-5" change={change} failover={false} />
}

function Fact({ term, children }: { term: string; children: React.ReactNode }) {
  return (
    <div>
      <dt className="text-fine text-soft">{term}</dt>
      <dd className="font-mono text-lead font-semibold wrap-anywhere">{children}</dd>
    </div>
  )
}

const ReportLine = memo(function ReportLine({ report: r, newest }: { report: HostReport; newest: boolean }) {
  const { light, word } = progress(r)
  return (
    <li className="grid gap-1.5 py-3">
      <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <Tag light={light}>{word}</Tag>
        <span className="data font-semibold">{[r.v4, r.v6].filter(Boolean).join('  ')}</span>
        <span className="text-fine text-soft">
          {wall(r.reported_at)}
          {r.peer && (
            <>
              {' '}
              from <span className="data">{r.peer}</span>
            </>
          )}
          {r.uplink && r.uplink !== 'main' && `, uplink ${r.uplink}`}
        </span>
      </p>
      {(r.outcome === 'refused' || r.outcome === 'held' || r.reason) && (
        <p>
          {r.reason}
          {r.times > 1 && <span className="text-soft"> ({r.times} times in a row)</span>}
        </p>
      )}
      {r.arrivals.map((a) => (
        <div key={a.account}>
          <ol className="flex flex-wrap gap-x-2 gap-y-1 text-fine" aria-label={`Progress at ${a.account}`}>
            <Station label="reported" value="" done />
            <Station label="accepted" value={after(r.reported_at, r.accepted_at)} done />
            <Station label={`written to ${a.account}`} value={after(r.reported_at, a.written_at)} done={!!a.written_at} />
            <Station label="visible at its nameservers" value={after(r.reported_at, a.visible_at)} done={!!a.visible_at} />
          </ol>
          {a.problem && <p className="text-alarm">{a.problem}</p>}
          {newest && a.settles_by && <Caches by={Date.parse(a.settles_by)} />}
        </div>
      ))}
    </li>
  )
})

function Caches({ by }: { by: number }) {
  const world = useWorld(1000)
  if (!world || by <= world.now) return null
  return (
    <p className="text-fine text-settling">
      The old address expires from caches by {moment(by, world.now)}, in {span(by - world.now)}.
    </p>
  )
}

function Station({ label, value, done }: { label: string; value: string; done: boolean }) {
  return (
    <li className={`rounded-key border px-2 py-1 ${done ? 'border-settled' : 'border-dashed border-line-strong text-soft'}`}>
      {label} {value && <span className="font-mono font-semibold">{value}</span>}
    </li>
  )
}

function Remove({ name, zone, remove }: { name: string; zone: string; remove: ReturnType<typeof useRemoveHost> }) {
  const go = useNavigate()
  const [asking, ask] = useState(false)
  return (
    <>
      <Key onClick={() => ask(true)}>Remove dynamic host…</Key>
      <Confirm
        open={asking}
        onOpen={ask}
        title={`Remove dynamic host ${name}?`}
        action="Remove dynamic host"
        busy={remove.isPending}
        onConfirm={() => remove.mutate(name, { onSuccess: () => void go('/hosts') })}
      >
        <p>Its token is revoked. The next sync of {zone} writes the desired records of this name again.</p>
        {remove.error && <Trouble error={remove.error} />}
      </Confirm>
    </>
  )
}
