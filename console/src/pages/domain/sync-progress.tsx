// How the last writing went, or goes.
import type { Sync } from '../../api/types'
import { Findings } from '../../parts/findings'
import { type Light, Tag } from '../../parts/lamp'
import { count, wall } from '../../parts/text'
import { Requests } from './requests'

const lights: Record<string, Light> = { waiting: 'settling', running: 'settling', done: 'settled', held: 'wrong', failed: 'wrong' }

/** What is said elsewhere on the page already, by the codes of findings, is not said here again. */
export function SyncProgress({ sync: s, said }: { sync: Sync; said: string[] }) {
  const found = s.findings.filter((f) => !said.includes(f.code))
  const written = s.added + s.changed + s.removed
  const running = s.state === 'waiting' || s.state === 'running'
  return (
    <section aria-label="The last writing" aria-live="polite" className="mt-4 rounded-plate bg-sunken p-3">
      <p className="flex flex-wrap items-center gap-2">
        <Tag light={lights[s.state] ?? 'unknown'}>{s.state}</Tag>
        <span className="font-semibold">Sync {s.id}</span>
        <span className="text-fine text-soft">{wall(s.finished_at ?? s.created_at)}</span>
      </p>
      {running ? (
        <>
          <progress className="mt-2 h-3 w-full accent-settling" max={Math.max(1, s.total)} value={written} aria-label="Sets written" />
          <p className="text-fine text-soft">
            {written} of {count(s.total, 'set')} written
          </p>
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
