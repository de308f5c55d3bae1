// The uplinks of a location.
import type { Uplink } from '../../api/types'
import { Tag } from '../../parts/lamp'
import { wall } from '../../parts/text'
import { uplinkState } from './progress'

export function Uplinks({ list }: { list: Uplink[] }) {
  return (
    <ul className="divide-y divide-line">
      {list.map((u) => {
        const { light, word } = uplinkState(u)
        return (
          <li key={u.name} className="flex flex-wrap items-center gap-x-5 gap-y-1 py-2.5">
            <span className="min-w-24 font-semibold">{u.name}</span>
            <Tag light={light}>{word}</Tag>
            <span className="data flex-1 basis-48">{[u.v4, u.v6, ...u.prefixes].filter(Boolean).join('  ')}</span>
            <span className="text-fine text-soft">{u.seen_at ? `last reported ${wall(u.seen_at)} from ${u.seen_from}` : ''}</span>
            {u.refused && <p className="basis-full text-alarm">{u.refused}</p>}
            {u.translated && <p className="basis-full">{u.translated} is behind the provider’s address translation: no one reaches it over IPv4.</p>}
          </li>
        )
      })}
    </ul>
  )
}
