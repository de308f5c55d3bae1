// What needs a person, each with the one step that comes first.
import { useState } from 'react'
import { Link } from 'react-router'
import type { TodayItem } from '../../api/types'
import { Key, Plate } from '../../parts/kit'
import { Lamp, type Light, standing } from '../../parts/lamp'
import { Meaning } from '../../parts/meaning'
import { count, plain, shown } from '../../parts/text'

/** How many are shown before the others are asked for. */
const first = 8

export function Attention({ items }: { items: TodayItem[] }) {
  const [all, setAll] = useState(false)
  const list = all ? items : items.slice(0, first)
  return (
    <Plate title={items.length === 0 ? 'Nothing needs you' : 'Needs you'} aside={items.length > 0 && count(items.length, 'thing')}>
      {items.length === 0 && <p className="text-soft">Every domain is settled or settles without you.</p>}
      <ul className="divide-y divide-line">
        {list.map((i) => (
          <Item key={i.kind + i.zone + i.account + i.id} item={i} />
        ))}
      </ul>
      {items.length > list.length && (
        <Key weight="quiet" className="mt-2" onClick={() => setAll(true)}>
          Show {items.length - list.length} more
        </Key>
      )}
    </Plate>
  )
}

type Step = { light: Light; what: React.ReactNode; action: string; to: string }

function step(i: TodayItem): Step {
  switch (i.kind) {
    case 'handover':
      return { light: 'settling', what: `The handover waits for you: ${i.message}`, action: 'Show handover', to: '/handover' }
    case 'sync':
      return { light: 'alarm', what: `Sync at ${i.account} ${i.state}: ${i.message}`, action: 'Review changes', to: '/changes' }
    case 'drift':
      return { light: 'settling', what: i.count ? `${count(i.count, 'record set')} changed at ${i.account}` : `At ${i.account}: ${i.message || i.state}`, action: i.count ? 'Review drift' : 'Show placement', to: '/changes' }
    case 'draft':
      return { light: 'none', what: `${count(i.count ?? 0, 'edit')} in the draft, not accepted`, action: 'Review draft', to: '/records' }
  }
  const { light, word } = standing(i.verdict ?? '')
  const what = i.finding && i.finding !== 'check-failed' ? (
    <>
      {word}: <Meaning code={i.finding} />
    </>
  ) : (
    word
  )
  if (i.verdict === 'ready-to-move') return { light, what, action: 'Move domain', to: '/handover' }
  if (i.finding === 'saved-not-active') return { light, what, action: 'Review delegation', to: '/delegation' }
  return { light, what, action: 'Show findings', to: '' }
}

function Item({ item }: { item: TodayItem }) {
  const { light, what, action, to } = step(item)
  const name = plain(item.zone)
  return (
    <li className="flex flex-wrap items-center gap-x-4 gap-y-1 py-2">
      <Lamp light={light} size={20} />
      <div className="min-w-0 flex-1 basis-60">
        <Link className="link font-semibold wrap-anywhere" to={`/domains/${encodeURIComponent(name)}`}>
          {shown(name)}
        </Link>
        <p className="wrap-anywhere">{what}</p>
      </div>
      <Link to={`/domains/${encodeURIComponent(name)}${to}`} aria-label={`${action} of ${name}`} className="inline-flex min-h-10 items-center rounded-key border border-line-strong bg-surface px-4 font-semibold hover:border-accent hover:text-accent">
        {action}
      </Link>
    </li>
  )
}
