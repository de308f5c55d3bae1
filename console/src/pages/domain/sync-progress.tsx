// How the last writing went, or goes.
import type { Sync } from '../../api/types'
import { useCancelSync } from '../../api/hooks'
import { Findings } from '../../parts/findings'
import { Key, Trouble } from '../../parts/kit'
import { type Light, Tag } from '../../parts/lamp'
import { count, wall } from '../../parts/text'
import { Requests } from './requests'
import { Bar } from '../../parts/bar'

const lights: Record<string, Light> = { pending: 'settling', running: 'settling', retrying: 'settling', cancelled: 'none', done: 'settled', blocked: 'alarm', failed: 'alarm' }

/** What is said elsewhere on the page already, by the codes of findings, is not set here again. */
export function SyncProgress({ sync: s, said }: { sync: Sync; said: string[] }) {
  const found = s.findings.filter((f) => !said.includes(f.code))
  const written = s.added + s.changed + s.removed
  const running = ['pending', 'running', 'retrying'].includes(s.state)
  const cancel = useCancelSync(s.zone)
  return (
    <section aria-label={`The last sync at ${s.account}`} aria-live="polite" className="mt-4 rounded-plate bg-sunken p-3">
      <p className="flex flex-wrap items-center gap-2">
        <Tag light={lights[s.state] ?? 'unknown'}>{s.state}</Tag>
        <span className="font-semibold">Sync {s.id}</span>
        <span className="text-fine text-soft">{wall(s.finished_at ?? s.created_at)}</span>
      </p>
      {running ? (
        <>
          <Bar done={written} of={s.total} label="Sets written" />
          <p className="text-fine text-soft">
            {written} of {count(s.total, 'set')} written
          </p>
          {s.retrying && (
            <p className="mt-1 wrap-anywhere">
              Waiting for {s.account} since {wall(s.retrying.since)}, next try by {wall(s.retrying.next_try)}: {s.retrying.problem} It continues automatically.
            </p>
          )}
          <Key className="mt-2" busy={cancel.isPending} onClick={() => cancel.mutate(s.id)}>
            Cancel sync
          </Key>
          {cancel.error && <Trouble error={cancel.error} />}
        </>
      ) : (
        <p className="mt-1">
          {s.added} added, {s.changed} changed, {s.removed} removed, in {count(s.requests, 'request')}. {s.message}
        </p>
      )}
      {(running || s.requests > 0) && <Requests id={s.id} running={running} />}
      {found.length > 0 && (
        <div className="mt-3">
          <Findings list={found} />
        </div>
      )}
    </section>
  )
}
