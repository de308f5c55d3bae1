// A dynamic host in a list.
import { Link } from 'react-router'
import { useWorld } from '../../api/clock'
import type { Host } from '../../api/types'
import { Tag } from '../../parts/lamp'
import { moment, plain, wall } from '../../parts/text'
import { progress, state } from './progress'

export function HostRow({ host: h, there = false }: { host: Host; there?: boolean }) {
  const world = useWorld(60_000)
  const { light, word } = state(h)
  const last = progress(h.last)
  return (
    <li className="plate relative flex flex-wrap items-center gap-x-5 gap-y-2 p-4 hover:border-accent">
      <div className="min-w-0 flex-1 basis-64">
        <Link className="text-lead font-semibold wrap-anywhere after:absolute after:inset-0" to={`/hosts/${plain(h.name)}`}>
          {plain(h.name)}
        </Link>
        <p className="data">
          {[h.v4, h.v6].filter(Boolean).join('  ') || 'no address'}
          {h.since && world && <span className="font-sans text-fine text-soft"> since {moment(Date.parse(h.since), world.now)}</span>}
        </p>
      </div>
      {h.location && !there && <span className="text-fine text-soft">at location {h.location}</span>}
      <Tag light={light}>{word}</Tag>
      {h.last && last.word !== 'visible' && last.word !== word && <Tag light={last.light}>{last.word}</Tag>}
      <p className="text-fine text-soft">{h.seen_at ? `last reported ${wall(h.seen_at)}` : 'never reported'}</p>
    </li>
  )
}
