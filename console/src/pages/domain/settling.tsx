// The picture of settling: a row for each resolver over time: what it saw, until when it may hold the old, when the old answer expired, and
// where now is.
import { useWorld } from '../../api/clock'
import type { Report, ResolverView } from '../../api/types'
import { Plate } from '../../parts/kit'
import { moment, span } from '../../parts/text'

type Mark = { at: number; sees: string }

const tones: Record<string, string> = { old: 'fill-settling', held: 'fill-settling opacity-60', mixed: 'fill-settling opacity-60', new: 'fill-settled', silent: 'fill-unknown', unknown: 'fill-unknown' }
const words: Record<string, string> = {
  old: 'went to the old nameservers',
  held: 'went to the new ones, and still held an old answer',
  mixed: 'gave old and new answers',
  new: 'saw the new',
  silent: 'could not be asked',
  unknown: 'not known',
}

const width = 640
const rowHeight = 34

/** Where a moment lies in the picture. */
export const place = (t: number, from: number, to: number) => Math.round(Math.min(1, Math.max(0, (t - from) / Math.max(1, to - from))) * width)

/** The same as a share of the picture's width. */
const along = (x: number) => `${((100 * x) / width).toFixed(2)}%`

/** What a resolver was seen with, as stretches of time. */
export function stretches(marks: Mark[], now: number): { from: number; to: number; sees: string }[] {
  return marks.map((m, i) => ({ from: m.at, to: marks[i + 1]?.at ?? now, sees: m.sees }))
}

export function SettlingPicture({ report: r }: { report: Report }) {
  const world = useWorld(1000)
  const rows = r.resolvers.filter((v) => v.follow?.marks?.length)
  if (!world || rows.length === 0 || r.moments.length === 0) return null
  const since = Math.min(...r.moments.map((m) => Date.parse(m.since)))
  const by = Math.max(...r.moments.map((m) => Date.parse(m.by)))
  const from = Math.min(since, ...rows.map((v) => Date.parse(v.follow!.marks![0]!.at)))
  const over = world.now > by
  const now = over ? by + (by - from) * 0.04 : world.now
  const to = Math.max(by, now) + (by - from) * 0.04
  const at = (t: number) => place(t, from, to)
  return (
    <Plate title="Resolver timeline" aside={over ? 'the last change, all over' : 'amber: old, green: new; at the dashed line the old answer expires from every cache'}>
      {!over && (
        <p className="grid grid-cols-[minmax(5rem,9rem)_1fr] gap-x-3 pb-1 text-fine">
          <span />
          <span className="relative h-[1lh]">
            <span className="absolute font-semibold whitespace-nowrap text-accent" style={{ left: along(at(now)), transform: `translateX(-${along(at(now))})` }}>
              now {moment(now, world.now)}
            </span>
          </span>
        </p>
      )}
      <ul>
        {rows.map((v) => (
          <li key={v.name} className="grid grid-cols-[minmax(5rem,9rem)_1fr] items-center gap-x-3">
            <span className="truncate font-semibold">
              {v.name}
              {v.group && <span className="ml-2 font-normal text-soft">{v.group}</span>}
            </span>
            <svg viewBox={`0 0 ${width} ${rowHeight}`} preserveAspectRatio="none" className="h-[34px] w-full" role="img" aria-label={told(v, now, world.now)}>
              <Row view={v} now={Math.min(now, to)} at={at} />
              <line x1={at(by)} x2={at(by)} y1={0} y2={rowHeight} className="stroke-ink" strokeWidth="1.500" strokeDasharray="5 4" />
              {!over && <line x1={at(now)} x2={at(now)} y1={0} y2={rowHeight} className="stroke-accent" strokeWidth="2" />}
            </svg>
          </li>
        ))}
      </ul>
      <p className="grid grid-cols-[minmax(5rem,9rem)_1fr] gap-x-3 pt-1 text-fine">
        <span />
        <span className="flex flex-wrap justify-between gap-x-3">
        <span className="text-soft">{moment(from, world.now)}</span>
        <span className="font-semibold">
          {over ? 'settled' : 'settles by'} {moment(by, world.now)}
        </span>
        </span>
      </p>
      <ul className="mt-3 grid gap-1 text-fine text-soft">
        {rows.map((v) => (
          <li key={v.name}>{told(v, now, world.now)}.</li>
        ))}
      </ul>
    </Plate>
  )
}

function Row({ view: v, now, at }: { view: ResolverView; now: number; at: (t: number) => number }) {
  const marks = v.follow!.marks!.map((m) => ({ at: Date.parse(m.at), sees: m.sees }))
  const predicted = v.follow?.predicted && !v.follow.first_new ? at(Date.parse(v.follow.predicted)) : undefined
  return (
    <g>
      <rect x={0} y={9} width={width} height={16} rx={8} className="fill-sunken" />
      {stretches(marks, now).map((s, i) => (
        <rect key={i} x={at(s.from)} y={9} width={Math.max(3, at(s.to) - at(s.from))} height={16} rx={3} className={tones[s.sees] ?? 'fill-unknown'} />
      ))}
      {predicted !== undefined && <path d={`M${predicted - 5} 1h10l-5 7z`} className="fill-ink" />}
    </g>
  )
}

/** A resolver's way in a sentence: what happened, beside what was predicted. */
function told(v: ResolverView, now: number, world: number): string {
  const f = v.follow!
  const first = f.first_new ? Date.parse(f.first_new) : undefined
  const last = f.last_old ? Date.parse(f.last_old) : undefined
  const predicted = f.predicted ? Date.parse(f.predicted) : undefined
  if (first !== undefined && last !== undefined) {
    return `${v.name} had the old until ${moment(last, world)}, and was first seen with the new at ${moment(first, world)}${predicted ? `; predicted was ${moment(predicted, world)}` : ''}`
  }
  if (first !== undefined) return `${v.name} was never seen with the old`
  if (predicted !== undefined) return `${v.name} still has the old answer; most likely it expires in ${span(predicted - now)}, at ${moment(predicted, world)}`
  return `${v.name} ${words[f.marks?.at(-1)?.sees ?? 'unknown'] ?? 'not known'}`
}
