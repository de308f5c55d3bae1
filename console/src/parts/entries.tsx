// Lines of the logbook as sentences. Repeated lines are one, and the technical line is shown on demand.
import { Link } from 'react-router'
import type { Entry } from '../api/types'
import { count, plain, wall } from './text'
import { Unfold } from './unfold'

export type Fold = { entry: Entry; more: Entry[] }

/** How many lines back, and how long before, a line like it is looked for. */
const near = 4
const within = 60_000

const alike = (a: Entry, b: Entry) =>
  a.action === b.action && a.actor === b.actor && (a.subject === b.subject || a.detail === b.detail || a.action === 'domain.seen') && Math.abs(Date.parse(a.at) - Date.parse(b.at)) < within

/** Puts lines together that say the same within a minute: the same action by the same actor, about the same or with the same detail. */
export function folded(entries: Entry[]): Fold[] {
  const list: Fold[] = []
  for (const e of entries) {
    const like = list.slice(-near).find((f) => alike(f.more.at(-1) ?? f.entry, e))
    if (like) like.more.push(e)
    else list.push({ entry: e, more: [] })
  }
  return list
}

const today = () => wall(new Date().toISOString()).slice(0, 10)

/** The time of a line, with its date where that is not today. */
function when(at: string): string {
  const text = wall(at)
  return text.startsWith(today()) ? text.slice(11) : text
}

export function EntryLine({ fold: { entry: e, more } }: { fold: Fold }) {
  return (
    <li className="grid gap-x-4 py-2 sm:grid-cols-[10.5rem_1fr]">
      <time dateTime={e.at} className="data text-soft">
        {when(e.at)}
      </time>
      <div className="min-w-0">
        <p className="wrap-anywhere">
          <Sentence entry={e} />
        </p>
        <Unfold className="text-fine" tone="text-soft" summary={more.length > 0 ? `${count(more.length, 'more line')} like this, with details` : 'Details'}>
          <ul className="data mt-1 grid max-h-72 gap-1 overflow-y-auto rounded-key bg-sunken p-2">
            {[e, ...more].map((o) => (
              <li key={o.id} className="wrap-anywhere">
                {wall(o.at)} {o.action} {plain(o.subject)}, by {plain(o.actor)}
                {o.detail && `: ${o.detail}`}
              </li>
            ))}
          </ul>
        </Unfold>
      </div>
    </li>
  )
}

/** The sentence of a line, in which the domain or host is a link; a change of state says which. */
function Sentence({ entry: e }: { entry: Entry }) {
  const what = plain(e.subject)
  const at = e.subject.endsWith('.') ? e.text.indexOf(what) : -1
  const state = e.action === 'domain.verdict' ? ` ${e.detail.replace(/^./, (c) => c.toUpperCase())}.` : ''
  if (at < 0) return <>{e.text + state}</>
  const to = e.action.startsWith('host.') ? '/hosts/' : '/domains/'
  return (
    <>
      {e.text.slice(0, at)}
      <Link className="link" to={to + encodeURIComponent(what)}>
        {what}
      </Link>
      {e.text.slice(at + what.length)}
      {state}
    </>
  )
}
