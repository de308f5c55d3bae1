// Earlier syncs of a zone, newest first, with every request.
import { useState } from 'react'
import { useSyncs } from '../../api/hooks'
import type { Sync } from '../../api/types'
import { Key, Plate } from '../../parts/kit'
import { type Light, Tag } from '../../parts/lamp'
import { count, wall } from '../../parts/text'
import { Requests } from './requests'

const lights: Record<string, Light> = { pending: 'settling', running: 'settling', retrying: 'settling', cancelled: 'none', done: 'settled', blocked: 'alarm', failed: 'alarm' }
const few = 6

export function PastSyncs({ name }: { name: string }) {
  const syncs = useSyncs(name)
  const [all, showAll] = useState(false)
  const list = syncs.data?.items ?? []
  if (list.length === 0) return null
  return (
    <Plate title="Earlier syncs" aside={count(list.length, 'sync')}>
      <ul className="grid gap-2">
        {(all ? list : list.slice(0, few)).map((s) => (
          <Past key={s.id} sync={s} />
        ))}
      </ul>
      {list.length > few && !all && (
        <Key className="mt-3" weight="quiet" onClick={() => showAll(true)}>
          Show all of them
        </Key>
      )}
    </Plate>
  )
}

function Past({ sync: s }: { sync: Sync }) {
  return (
    <li className="rounded-key bg-sunken p-2.5">
      <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <Tag light={lights[s.state] ?? 'unknown'}>{s.state}</Tag>
        <span className="font-semibold">
          Sync {s.id} at {s.account}
        </span>
        <span className="text-fine text-soft">
          {wall(s.finished_at ?? s.created_at)} by {s.requested_by}
        </span>
      </p>
      <p className="wrap-anywhere">
        {s.added} added, {s.changed} changed, {s.removed} removed. {s.message}
      </p>
      {s.requests > 0 && <Requests id={s.id} running={false} />}
    </li>
  )
}
