// The requests of a sync as they go: what each was for, what became of it, and how long that took to know.
import { useEffect } from 'react'
import { useQueryClient } from '@tanstack/react-query'
import { useRequests } from '../../api/hooks'
import type { SentRequest } from '../../api/types'
import { type Light, Tag } from '../../parts/lamp'
import { count, wall } from '../../parts/text'
import { Unfold } from '../../parts/unfold'

const words: Record<string, { light: Light; word: string }> = {
  sent: { light: 'settling', word: 'sent' },
  done: { light: 'settled', word: 'done' },
  'not-applied': { light: 'none', word: 'not applied' },
  partial: { light: 'settling', word: 'partly done' },
}

export function Requests({ id, running }: { id: number; running: boolean }) {
  const requests = useRequests(id, running)
  const client = useQueryClient()
  useEffect(() => {
    if (!running) void client.invalidateQueries({ queryKey: ['syncs', id] })
  }, [client, id, running])
  const list = requests.data?.items ?? []
  if (list.length === 0) return null
  return (
    <Unfold className="mt-2" key={String(running)} start={running} summary={<span className="font-semibold">{count(list.length, 'request')}</span>}>
      <ol className="mt-1 grid gap-1.5">
        {list.map((r) => (
          <Row key={r.id} request={r} />
        ))}
      </ol>
    </Unfold>
  )
}

function Row({ request: r }: { request: SentRequest }) {
  const { light, word } = words[r.state] ?? { light: 'unknown', word: r.state }
  const more = r.added + r.changed + r.removed - r.names.length
  return (
    <li className="rounded-key bg-surface p-2.5">
      <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <Tag light={light}>{word}</Tag>
        <span>
          {r.added} to add, {r.changed} to change, {r.removed} to remove
        </span>
        <span className="text-fine text-soft">
          {wall(r.sent_at).slice(11)}
          {r.took_ms >= 0 && `, known after ${r.took_ms} ms`}
          {r.accepted && ', accepted first and done later'}
        </span>
      </p>
      <p className="data text-soft wrap-anywhere">
        {r.names.join(', ')}
        {more > 0 && ` and ${more} more`}
      </p>
      {r.problem && <p className="wrap-anywhere">{r.problem}</p>}
    </li>
  )
}
