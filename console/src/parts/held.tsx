// A service that is held looks, and writes nothing outside: shown on every page, with what differs and the way out of it.
import { Collapsible } from 'radix-ui'
import { useState } from 'react'
import { Link } from 'react-router'
import { useHold, useRelease } from '../api/hooks'
import { Confirm } from './confirm'
import { Key } from './kit'
import { Lamp } from './lamp'
import { count, plain, wall } from './text'

type Hold = NonNullable<ReturnType<typeof useHold>['data']>
type Placement = NonNullable<Hold['placements']>[number]

export function Held() {
  const hold = useHold()
  const release = useRelease()
  const [asking, ask] = useState(false)
  const h = hold.data
  if (!h?.held || !h.since) return null
  const rows = h.placements ?? []
  return (
    <Collapsible.Root asChild>
      <div role="alert" className="bg-settling-wash px-4 py-2.5 sm:px-6">
        <div className="flex flex-wrap items-center gap-3">
          <Lamp light="settling" />
          <p className="min-w-0 flex-1 basis-80">
            <strong>Held since {wall(h.since)}:</strong> {h.reason.replace(/\.?$/, '.')} Nothing is written to providers and registrars. {count(h.total, 'placement')}: {h.newer} newer outside, {h.unseen} not looked
            at yet, {h.released} released.
          </p>
          {rows.length > 0 && (
            <Collapsible.Trigger asChild>
              <Key className="group">
                <span className="group-data-[state=open]:hidden">Show placements</span>
                <span className="group-data-[state=closed]:hidden">Hide placements</span>
              </Key>
            </Collapsible.Trigger>
          )}
          <Key busy={release.isPending} onClick={() => ask(true)}>
            Release everything…
          </Key>
          <Confirm open={asking} onOpen={ask} title="Release everything?" action="Release everything" onConfirm={() => (release.mutate({ zone: '', account: '', all: true }), ask(false))}>
            Pending changes of {count(h.total, 'placement')} are written to the providers then.
          </Confirm>
        </div>
        <Collapsible.Content>
          <ul className="mt-2 grid max-h-64 gap-1 overflow-y-auto">
            {rows.map((p) => (
              <li key={`${p.zone} ${p.account}`} className="flex flex-wrap items-center gap-x-4 gap-y-1">
                <Link className="min-w-0 flex-1 basis-60 wrap-anywhere text-accent underline" to={`/domains/${encodeURIComponent(plain(p.zone))}/changes`}>
                  {plain(p.zone)} at {p.account}
                </Link>
                <span className="basis-60">{differs(p)}</span>
                <Key disabled={p.released || release.isPending} onClick={() => release.mutate({ zone: p.zone, account: p.account, all: false })}>
                  {p.released ? 'Released' : 'Release'}
                </Key>
              </li>
            ))}
          </ul>
        </Collapsible.Content>
        {release.error && <p className="text-alarm">{release.error.message}</p>}
      </div>
    </Collapsible.Root>
  )
}

function differs(p: Placement): string {
  if (!p.looked) return 'not looked at yet'
  if (p.newer > 0) return `${count(p.newer, 'record set')} newer outside${p.ours > 0 ? `, ${p.ours} written by this service` : ''}`
  if (p.pending > 0) return `${count(p.pending, 'record set')} pending`
  return p.trouble || p.state
}
