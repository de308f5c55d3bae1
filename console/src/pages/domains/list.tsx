// The domains that pass the filters, in order of their names. Pages come in as one scrolls, and only what is seen is drawn.
import { useWindowVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useLayoutEffect, useRef, useState } from 'react'
import { Link } from 'react-router'
import { useWorld } from '../../api/clock'
import { useDomains } from '../../api/hooks'
import type { Domain } from '../../api/types'
import { Trouble } from '../../parts/kit'
import { Lamp, standing } from '../../parts/lamp'
import { number, plain, shown, span } from '../../parts/text'

/** How tall a row is before it was drawn, in pixels. */
const guess = 62

export function List({ verdict, finding, name, sort }: { verdict: string | null; finding: string | null; name: string; sort: string }) {
  const query = useDomains({ verdict, finding, name, sort })
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = query
  const items = query.data?.pages.flatMap((p) => p.items) ?? []
  const list = useRef<HTMLUListElement>(null)
  const [margin, setMargin] = useState(0)
  useLayoutEffect(() => setMargin(list.current?.offsetTop ?? 0), [verdict, finding])
  const rows = useWindowVirtualizer({ count: items.length, estimateSize: () => guess, overscan: 8, scrollMargin: margin, getItemKey: (i) => items[i]!.name })
  const drawn = rows.getVirtualItems()
  const last = drawn.at(-1)?.index ?? -1
  useEffect(() => {
    if (last >= items.length - 20 && hasNextPage && !isFetchingNextPage) void fetchNextPage()
  }, [last, items.length, hasNextPage, isFetchingNextPage, fetchNextPage])
  if (query.error && !query.data) return <Trouble error={query.error} again={() => void query.refetch()} />
  return (
    <>
      <p role="status" className="sr-only">
        {query.isLoading ? 'Loading domains' : `${items.length} domains loaded`}
      </p>
      {query.data && items.length === 0 && <p className="plate p-4 text-soft">No domains match.</p>}
      <ul ref={list} style={{ height: rows.getTotalSize() }} className="relative" aria-label="Domains">
        {drawn.map((row) => (
          <li
            key={row.key}
            ref={rows.measureElement}
            data-index={row.index}
            className="absolute inset-x-0 top-0 pb-2"
            style={{ transform: `translateY(${row.start - margin}px)` }}
          >
            <Row domain={items[row.index]!} />
          </li>
        ))}
      </ul>
      {isFetchingNextPage && <p className="p-2 text-soft">Loading more …</p>}
    </>
  )
}

function Row({ domain }: { domain: Domain }) {
  const { light, word } = standing(domain.verdict)
  return (
    <div className="plate relative px-4 py-2.5 hover:border-accent">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <Lamp light={light} size={22} />
        <div className="min-w-0 flex-1 basis-60">
          <Link to={`/domains/${encodeURIComponent(plain(domain.name))}`} className="font-semibold wrap-anywhere after:absolute after:inset-0">
            {shown(plain(domain.name))}
          </Link>
          {domain.description && <span className="block text-fine text-soft">{domain.description}</span>}
        </div>
        <div className="basis-64">
          <p className="font-semibold">{domain.gravest && domain.gravest !== 'check-failed' ? `${word}: ${domain.gravest.replaceAll('-', ' ')}` : word}</p>
          {domain.settles_by && light === 'settling' && (
            <p className="text-fine text-soft">
              <Remaining by={domain.settles_by} />
            </p>
          )}
        </div>
        <p className="basis-52 text-fine text-soft">
          {domain.registrar || 'no registrar named'}, {domain.providers.join(', ') || 'no provider yet'}
        </p>
      </div>
    </div>
  )
}

/** How many of those that need action are shown before all others. */
const first = 5

/** The domains that need action, before the list of all. */
export function Attention({ total, all }: { total: number; all: () => void }) {
  const query = useDomains({ verdict: 'needs-action', finding: null, name: '' })
  const items = query.data?.pages[0]?.items.slice(0, first) ?? []
  if (items.length === 0) return null
  return (
    <section aria-label="Needs action">
      <h2 className="mb-2 flex flex-wrap items-baseline gap-3 font-semibold">
        Needs action
        {total > first && (
          <button type="button" className="link font-normal" onClick={all}>
            all {number(total)}
          </button>
        )}
      </h2>
      <ul className="grid gap-2">
        {items.map((d) => (
          <li key={d.name}>
            <Row domain={d} />
          </li>
        ))}
      </ul>
      <h2 className="mt-4 font-semibold">All domains</h2>
    </section>
  )
}

function Remaining({ by }: { by: string }) {
  const world = useWorld(500)
  if (!world) return null
  return <>settled in {span(Date.parse(by) - world.now)} at the latest</>
}
