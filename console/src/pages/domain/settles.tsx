// When the waiting ends: a gauge from the change to the moment by which the old answer has expired from every cache, and the sum
// behind it.
import { useSkip, useWorld } from '../../api/clock'
import type { Report } from '../../api/types'
import { Key } from '../../parts/key'
import { Lamp } from '../../parts/lamp'
import { moment, plain, span } from '../../parts/text'
import { Unfold } from '../../parts/unfold'

export function Settles({ report: r }: { report: Report }) {
  const world = useWorld(250)
  if (!world || r.moments.length === 0) return null
  const by = r.settles_by ? Date.parse(r.settles_by) : undefined
  if (by === undefined || by <= world.now) {
    return <Sums report={r} now={world.now} title="How long the last change took" />
  }
  const likely = r.likely ? Date.parse(r.likely) : undefined
  return (
    <section aria-label="When it settles" className="plate p-4 sm:p-5">
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
        <Lamp light="settling" size={40} />
        <div className="min-w-44">
          <p className="text-fine text-soft">The old answers expire in</p>
          <p role="timer" className="font-mono text-dial font-semibold">
            {span(by - world.now)}
          </p>
        </div>
        <dl className="grid grid-cols-[auto_1fr] gap-x-3">
          <dt className="text-soft">at the latest by</dt>
          <dd className="font-mono">{moment(by, world.now)}</dd>
          {likely !== undefined && likely < by && (
            <>
              <dt className="text-soft">most likely by</dt>
              <dd className="font-mono">{moment(likely, world.now)}</dd>
            </>
          )}
          <dt className="text-soft">now</dt>
          <dd className="font-mono">{moment(world.now, world.now)}</dd>
        </dl>
        {world.rate !== 1 && <Simulated rate={world.rate} left={by - world.now} by={by} />}
      </div>
      <Gauge now={world.now} by={by} likely={likely} from={begun(r, world.now)} />
      <Sums report={r} now={world.now} title="Calculation" />
    </section>
  )
}

/** In the demo: how long it takes in real time, and the way not to wait. */
function Simulated({ rate, left, by }: { rate: number; left: number; by: number }) {
  const skip = useSkip()
  return (
    <div className="ml-auto grid max-w-52 gap-2">
      <p className="text-fine text-soft">
        Simulated time: {rate} times as fast as real time, so this takes <span className="whitespace-nowrap">{span(left / rate)}</span> of yours.
      </p>
      <Key busy={skip.isPending} onClick={() => skip.mutate(by + 1000)}>
        Skip to then
      </Key>
      {skip.error && <p className="text-fine text-alarm">{skip.error.message}</p>}
    </div>
  )
}

/** When the first of the changes was seen that still settle. */
const begun = (r: Report, now: number) => Math.min(...r.moments.filter((m) => Date.parse(m.by) > now).map((m) => Date.parse(m.since)))

/** The gauge: how much of the waiting is over; the stroke is where most caches have expired it. */
function Gauge({ now, by, likely, from }: { now: number; by: number; likely?: number; from: number }) {
  const at = (t: number) => `${Math.min(100, Math.max(0, ((t - from) / Math.max(1, by - from)) * 100))}%`
  return (
    <div className="relative mt-4 h-4 rounded-full bg-sunken" aria-hidden="true">
      <div className="absolute inset-y-0 left-0 rounded-full bg-settling" style={{ width: at(now) }} />
      {likely !== undefined && likely < by && <div className="absolute -inset-y-1 w-0.5 bg-ink" style={{ left: at(likely) }} />}
    </div>
  )
}

function Sums({ report: r, now, title }: { report: Report; now: number; title: string }) {
  return (
    <Unfold className="mt-3" summary={<span className="font-semibold">{title}</span>}>
      <ul className="mt-2 grid gap-1.5">
        {r.moments.map((m, i) => {
          const by = Date.parse(m.by)
          return (
            <li key={i}>
              The {m.what} of <span className="data">{plain(m.subject)}</span> {by <= now ? 'settled at' : 'settles by'} <span className="font-mono">{moment(by, now)}</span>: <span className="text-soft">{m.why}.</span>
            </li>
          )
        })}
      </ul>
    </Unfold>
  )
}
