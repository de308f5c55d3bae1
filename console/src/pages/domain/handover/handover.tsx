// The move of a domain to other nameservers: where it is, until when and why, what is asked, the steps, and how to go back.
import { useState } from 'react'
import { Link } from 'react-router'
import { useWorld } from '../../../api/clock'
import { useHandover, useHandoverTurn } from '../../../api/handovers'
import { useDomain } from '../../../api/hooks'
import type { Handover, HandoverStep } from '../../../api/types'
import { Confirm } from '../../../parts/confirm'
import { Findings } from '../../../parts/findings'
import { Key, Notice, Plate, Shown, Trouble } from '../../../parts/kit'
import { Lamp, type Light } from '../../../parts/lamp'
import { Names } from '../../../parts/names'
import { moment, plain, span, wall } from '../../../parts/text'
import { Unfold } from '../../../parts/unfold'
import { useName } from '../domain'
import { Asked } from './asked'
import { Begin } from './begin'
import { Compared } from './compared'
import { Entries } from './printed'

export function HandoverPage() {
  const name = useName()
  const there = Boolean(useDomain(name).data?.handover)
  const handover = useHandover(name, there)
  if (!there) return <Begin name={name} again={false} />
  return (
    <Shown query={handover}>
      {(h) => (
        <div className="grid gap-5">
          <One h={h} name={name} />
          {ended(h) && <Begin name={name} again />}
        </div>
      )}
    </Shown>
  )
}

const ended = (h: Handover) => h.state === 'done' || h.state === 'abandoned'

function One({ h, name }: { h: Handover; name: string }) {
  const now = useWorld(1000)?.now
  return (
    <>
      <Head h={h} now={now} />
      {h.asked && <Asked h={h} name={name} />}
      {h.trouble && (
        <Notice light="alarm" title="The last step did not come about">
          <p>{h.trouble} It is tried again.</p>
        </Notice>
      )}
      {h.unwritten.length > 0 && (
        <Notice light="alarm" title="Reported addresses are not at both sides">
          <ul>
            {h.unwritten.map((u) => (
              <li key={`${u.host} ${u.account}`}>
                <Link className="link" to={`/hosts/${encodeURIComponent(plain(u.host))}`}>
                  {plain(u.host)}
                </Link>
                : <span className="data">{u.address || 'no address'}</span> is not at {u.account}, reported {wall(u.since)}. It is tried again.
                {u.problem && <p className="text-fine wrap-anywhere">{u.problem}</p>}
              </li>
            ))}
          </ul>
        </Notice>
      )}
      <div className="grid gap-5 xl:grid-cols-[3fr_2fr]">
        <Plate title="Steps" aside={h.ends && !ended(h) ? `likely done ${when(h.ends, now)}` : undefined}>
          <Steps list={h.steps} now={now} />
        </Plate>
        <div className="grid content-start gap-5">
          <Plate title="Nameservers">
            <div className="grid gap-4 sm:grid-cols-2">
              <div>
                <h3 className="mb-1 text-fine font-semibold text-soft">Old{h.from && ` · ${h.from}`}</h3>
                <Names list={h.old} none="not delegated yet" />
              </div>
              <div>
                <h3 className="mb-1 text-fine font-semibold text-soft">New{h.to && ` · ${h.to}`}</h3>
                <Names list={h.new} none="not assigned yet" />
              </div>
            </div>
          </Plate>
          <Compared h={h} name={name} />
          <Turns h={h} name={name} now={now} />
        </div>
      </div>
      {h.closed.length > 0 && (
        <Plate title="Closed gates" aside="what would lose answers now">
          <Findings list={h.closed} />
        </Plate>
      )}
      {h.hanging.length > 0 && h.phase !== 'done' && (
        <Plate title="What else hangs on the old nameservers" aside="the move itself loses no answer by it">
          <Findings list={h.hanging} />
        </Plate>
      )}
      <Report h={h} now={now} />
    </>
  )
}

const when = (text: string, now: number | undefined) => moment(Date.parse(text), now ?? Date.parse(text))

const phases: Record<string, { light: Light; title: string }> = {
  preparing: { light: 'settling', title: 'The new side is being prepared' },
  insecure: { light: 'settling', title: 'The DS goes first, and its time has to pass' },
  ready: { light: 'settled', title: 'Ready: the nameservers can be changed' },
  switching: { light: 'settling', title: 'The nameservers are changing' },
  settling: { light: 'settling', title: 'Settling: caches may hold the old nameservers' },
  securing: { light: 'settling', title: 'The DS of the new zone comes next' },
  closing: { light: 'settled', title: 'Settled: the old zone can go' },
  done: { light: 'settled', title: 'Done' },
}

function Head({ h, now }: { h: Handover; now: number | undefined }) {
  if (h.state === 'done') return <Notice light="settled" title={`The domain has moved to ${h.to || h.new.map(plain).join(', ')}.`}>Ended {when(h.ended_at ?? '', now)}.</Notice>
  if (h.state === 'abandoned') return <Notice light="none" title="The handover was ended before its end.">Ended {when(h.ended_at ?? '', now)}. Nothing was undone.</Notice>
  const { light, title } = phases[h.phase] ?? { light: 'settling' as Light, title: h.phase }
  const wait = h.wait.find((w) => w.until) ?? h.wait[0]
  if (h.state === 'open' && h.asked && !h.doing && !wait) return null // what is asked says it
  return (
    <Notice light={light === 'unknown' ? 'none' : light} title={h.state === 'paused' ? `Paused. ${title}` : title}>
      {h.doing && <p>{h.doing}</p>}
      {wait && (
        <p>
          It waits until {wait.for}
          {wait.until && now !== undefined && (
            <>
              : <span className="data">{moment(Date.parse(wait.until), now)}</span>, in {span(Date.parse(wait.until) - now)}
            </>
          )}
          .
        </p>
      )}
    </Notice>
  )
}

function Steps({ list, now }: { list: HandoverStep[]; now: number | undefined }) {
  if (list.length === 0) return <p className="text-soft">The domain is being looked at.</p>
  return (
    <ol className="grid gap-3">
      {list.map((s, i) => (
        <li key={i} aria-current={s.state === 'current' ? 'step' : undefined} className="flex items-start gap-3">
          <span className="mt-0.5">
            <Lamp light={s.state === 'done' ? 'settled' : s.state === 'current' ? 'settling' : 'none'} />
          </span>
          <div className="min-w-0">
            <p className={s.state === 'current' ? 'font-semibold' : s.state === 'pending' ? 'text-soft' : ''}>
              {s.text}
              <span className="sr-only">: {s.state}</span>
            </p>
            <p className="text-fine text-soft">
              {(s.until ?? s.at) && <span className="data">{when((s.until ?? s.at)!, now)}</span>}
              {s.planned && ` · planned ${when(s.planned, now)}`}
              {s.state !== 'done' && s.needs && ' · you have to allow it'}
              {s.act !== undefined && s.act > 0 && ` · act ${s.act}`}
            </p>
          </div>
        </li>
      ))}
    </ol>
  )
}

function Turns({ h, name, now }: { h: Handover; name: string; now: number | undefined }) {
  const turn = useHandoverTurn(name)
  const [asking, setAsking] = useState<'return' | 'abandonment'>()
  const over = ended(h)
  if (over && !h.back.possible) return null
  return (
    <Plate title="Going back">
      <p>{h.back.text}</p>
      {h.back.until && <p className="text-soft">Possible until the old zone is removed, {when(h.back.until, now)} at the earliest.</p>}
      {turn.error && <Trouble error={turn.error} />}
      <div className="mt-4 flex flex-wrap gap-3">
        {h.back.possible && (
          <Key busy={turn.isPending} onClick={() => setAsking('return')}>
            Go back
          </Key>
        )}
        {!over && (
          <Key busy={turn.isPending} onClick={() => turn.mutate(h.state === 'paused' ? 'resumption' : 'pause')}>
            {h.state === 'paused' ? 'Resume handover' : 'Pause handover'}
          </Key>
        )}
        {!over && !h.back.cheap && (
          <Key weight="quiet" busy={turn.isPending} onClick={() => setAsking('abandonment')}>
            End handover
          </Key>
        )}
      </div>
      <Confirm
        title={asking === 'return' ? `Go back to ${h.from || 'the old nameservers'}?` : 'End the handover?'}
        action={asking === 'return' ? 'Go back' : 'End handover'}
        open={asking !== undefined}
        onOpen={() => setAsking(undefined)}
        onConfirm={() => {
          if (asking) turn.mutate(asking)
          setAsking(undefined)
        }}
      >
        {asking === 'return' ? h.back.text : 'Nothing more is done for it, and nothing is undone: the domain stays where it is now.'}
      </Confirm>
    </Plate>
  )
}

function Report({ h, now }: { h: Handover; now: number | undefined }) {
  if (h.report.length === 0) return null
  return (
    <Plate title="Report" aside="what was established, and said">
      <Unfold summary={`${h.report.length === 1 ? '1 entry' : `${h.report.length} entries`} since ${when(h.begun_at, now)}, begun by ${h.begun_by}`} start={ended(h)}>
        <Entries h={h} />
      </Unfold>
      <Link className="link mt-3 inline-block" to={`/domains/${encodeURIComponent(plain(h.domain))}/handover/report`}>
        Report to print
      </Link>
    </Plate>
  )
}
