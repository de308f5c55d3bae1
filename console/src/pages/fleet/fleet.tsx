// The fleet: thousands of domains at a glance, a cell each, by how they stand; narrowed down by verdict and by name.
import { useDeferredValue, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useFleet } from '../../api/hooks'
import type { FleetDomain } from '../../api/types'
import { Empty, PageHead, Plate, Shown } from '../../parts/kit'
import { Lamp, standing, type Light } from '../../parts/lamp'
import { EmptyHarbour } from '../../parts/pictures'
import { plain, shown } from '../../parts/text'
import { LookAtAll } from './look'

const order = ['wrong', 'undelegated', 'unknown', 'settling', '', 'settled']
const cells: Record<Light, string> = { settled: 'fill-settled', settling: 'fill-settling', wrong: 'fill-wrong', none: 'fill-line-strong', unknown: 'fill-unknown' }

/** What was found, with how many domains it is the gravest of; the commonest first. */
export function commonest(items: FleetDomain[]): [code: string, count: number][] {
  const counts = new Map<string, number>()
  for (const d of items) if (d.gravest) counts.set(d.gravest, (counts.get(d.gravest) ?? 0) + 1)
  return [...counts].sort((a, b) => b[1] - a[1] || a[0].localeCompare(b[0]))
}

/** How many are listed by name at most: whoever looks for one narrows it down. */
const listed = 100

export function Fleet() {
  const fleet = useFleet()
  return (
    <>
      <title>Fleet · Agile Beacon</title>
      <PageHead title="Fleet" lead="Every domain at a glance, the gravest first.">
        <LookAtAll />
      </PageHead>
      <Shown query={fleet}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty picture={<EmptyHarbour />} title="No domain is looked after yet">
              Domains come in with a definition.
            </Empty>
          ) : (
            <Seen items={items} />
          )
        }
      </Shown>
    </>
  )
}

/** Those with a verdict, with something found, and with a text in their name; the gravest first. */
export function narrowed(items: FleetDomain[], verdict: string | null, found: string | null, text: string): FleetDomain[] {
  const wanted = text.trim().toLowerCase()
  return items
    .filter((d) => (verdict === null || d.verdict === verdict) && (found === null || d.gravest === found) && (!wanted || plain(d.name).includes(wanted)))
    .sort((a, b) => order.indexOf(a.verdict) - order.indexOf(b.verdict) || a.name.localeCompare(b.name))
}

function Seen({ items }: { items: FleetDomain[] }) {
  const [params, setParams] = useSearchParams()
  const [text, setText] = useState('')
  const verdict = params.get('verdict')
  const found = params.get('found')
  const shownItems = narrowed(items, verdict, found, useDeferredValue(text))
  const narrow = (to: Record<string, string | null>) =>
    setParams(Object.entries({ verdict, found, ...to }).filter((e): e is [string, string] => e[1] !== null))
  const count = (v: string) => items.filter((d) => d.verdict === v).length
  return (
    <div className="grid gap-5">
      <div role="group" aria-label="By how they stand" className="grid grid-cols-2 gap-2 sm:grid-cols-3 xl:grid-cols-6">
        {order.map((v) => {
          const { light, word } = standing(v)
          const on = verdict === v
          return (
            <button
              key={v}
              type="button"
              aria-pressed={on}
              onClick={() => narrow({ verdict: on ? null : v, found: null })}
              className={`plate flex items-center gap-3 p-3 text-left ${on ? 'border-accent' : 'hover:border-accent'}`}
            >
              <Lamp light={light} size={24} />
              <span>
                <span className="block text-lead font-semibold">{count(v)}</span>
                <span className="block text-fine text-soft">{word}</span>
              </span>
            </button>
          )
        })}
      </div>
      <Found list={commonest(narrowed(items, verdict, null, ''))} chosen={found} choose={(code) => narrow({ found: code })} />
      <label className="grid max-w-sm gap-1">
        <span className="text-fine font-semibold text-soft">Part of a name</span>
        <input value={text} onChange={(e) => setText(e.target.value)} className="min-h-10 rounded-key border border-line-strong bg-surface px-3" />
      </label>
      <Plate title={`${shownItems.length} of ${items.length} domains`}>
        <Mosaic items={shownItems} />
      </Plate>
      <ul className="plate divide-y divide-line p-2">
        {shownItems.slice(0, listed).map((d) => {
          const { light, word } = standing(d.verdict)
          return (
            <li key={d.name} className="flex flex-wrap items-center gap-3 px-2 py-2">
              <Lamp light={light} />
              <Link className="link min-w-0 flex-1 wrap-anywhere" to={`/domains/${plain(d.name)}`}>
                {shown(plain(d.name))}
              </Link>
              <span className="text-soft">{d.gravest ? `${word}: ${d.gravest.replaceAll('-', ' ')}` : word}</span>
            </li>
          )
        })}
        {shownItems.length === 0 && <li className="px-2 py-2 text-soft">None is like that.</li>}
        {shownItems.length > listed && <li className="px-2 py-2 text-soft">And {shownItems.length - listed} more: narrow it down above.</li>}
      </ul>
    </div>
  )
}

const mostCodes = 8

/** What was found, as keys that narrow the fleet down to it. */
function Found({ list, chosen, choose }: { list: [string, number][]; chosen: string | null; choose: (code: string | null) => void }) {
  if (list.length === 0) return null
  return (
    <div role="group" aria-label="By the gravest that was found" className="flex flex-wrap gap-2">
      {list
        .filter(([code], i) => i < mostCodes || code === chosen)
        .map(([code, count]) => (
          <button
            key={code}
            type="button"
            aria-pressed={code === chosen}
            onClick={() => choose(code === chosen ? null : code)}
            className={`min-h-8 rounded-key border px-3 text-fine ${code === chosen ? 'border-accent font-semibold' : 'border-line-strong hover:border-accent'}`}
          >
            {code.replaceAll('-', ' ')} <span className="text-soft">{count}</span>
          </button>
        ))}
    </div>
  )
}

const across = 80

/** A cell for each domain. It is a picture; the list beside it says the same in words. */
function Mosaic({ items }: { items: FleetDomain[] }) {
  const size = items.length > 1000 ? 8 : 14
  const columns = Math.floor((across * 8) / size)
  const rows = Math.max(1, Math.ceil(items.length / columns))
  return (
    <svg viewBox={`0 0 ${across * 8} ${rows * size}`} className="w-full" role="img" aria-label={`${items.length} domains as cells`}>
      {items.map((d, i) => (
        <rect key={d.name} x={(i % columns) * size} y={Math.floor(i / columns) * size} width={size - 2} height={size - 2} rx={2} className={cells[standing(d.verdict).light]}>
          <title>{plain(d.name)}</title>
        </rect>
      ))}
    </svg>
  )
}
