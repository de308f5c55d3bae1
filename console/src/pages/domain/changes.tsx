// The differences between desired records and providers, and their syncs.
import { useState } from 'react'
import { Link } from 'react-router'
import { Problem } from '../../api/client'
import { useAdopt, useDifferences, useSync, useZone } from '../../api/hooks'
import type { Difference, Sync } from '../../api/types'
import { Findings } from '../../parts/findings'
import { Check } from '../../parts/check'
import { Empty, Key, Plate, Shown, Trouble } from '../../parts/kit'
import { Tag } from '../../parts/lamp'
import { EmptyChart } from '../../parts/pictures'
import { count } from '../../parts/text'
import { ZoneSettingsPlate } from './zone-settings'
import { DeletePlate } from './delete'
import { ChangeList, Items } from './change-list'
import { useName } from './domain'
import { SideBySide } from './side-by-side'
import { SyncProgress } from './sync-progress'
import { PastSyncs } from './syncs'

export function Changes() {
  const name = useName()
  const zone = useZone(name)
  return (
    <Shown query={zone}>
      {(z) =>
        z.placements.length === 0 || !z.revision ? (
          <Empty picture={<EmptyChart />} title="No sync possible yet">
            {z.revision ? 'The zone has no provider: name one in its definition. ' : 'The zone has no desired records yet. '}
            <Link className="link" to={`/apply?zone=${name}`}>
              Apply a definition
            </Link>
            .
          </Empty>
        ) : (
          <>
            <Lists name={name} running={z.placements.flatMap((p) => (p.last_sync ? [{ account: p.account, sync: p.last_sync }] : []))} />
            <ZoneSettingsPlate name={name} settings={z.settings} defaultSOA={z.default_soa} managedBy={z.managed_by} />
            <DeletePlate name={name} />
          </>
        )
      }
    </Shown>
  )
}

function Lists({ name, running }: { name: string; running: { account: string; sync: Sync }[] }) {
  const [revert, setRevert] = useState(false)
  const differences = useDifferences(name, revert)
  return (
    <Shown query={differences}>
      {({ items }) => (
        <div className="grid gap-5">
          <SideBySide list={items} zone={name} />
          {items.map((d) => (
            <Placement key={d.account} name={name} difference={d} sync={running.find((r) => r.account === d.account)?.sync} revert={revert} setRevert={setRevert} />
          ))}
          <PastSyncs name={name} />
        </div>
      )}
    </Shown>
  )
}

function Nothing({ difference: d }: { difference: Difference }) {
  if (d.new_zone) return <Tag light="none">only the zone is missing</Tag>
  const changed = d.drift.length > 0
  return (
    <p className="flex flex-wrap items-center gap-2">
      <Tag light={changed ? 'settling' : 'settled'}>{changed ? 'drift' : 'in sync'}</Tag>
      {changed ? 'Nothing is pending; records were changed at the provider.' : 'The provider has the desired records.'}
    </p>
  )
}

type PlacementProps = { name: string; difference: Difference; sync?: Sync; revert: boolean; setRevert: (yes: boolean) => void }

function Placement({ name, difference: d, sync, revert, setRevert }: PlacementProps) {
  const start = useSync(name)
  const adopt = useAdopt(name)
  const [allowed, allow] = useState<string[]>([])
  const running = sync !== undefined && !['done', 'blocked', 'failed', 'cancelled'].includes(sync.state)
  const said = sync?.state === 'blocked' ? sync.findings.filter((f) => f.code === 'read-not-confirmed') : []
  const guards = [...new Map([...d.guards, ...said, ...(adopt.error instanceof Problem ? adopt.error.findings : [])].map((g) => [g.code, g])).values()]
  const blocked = d.guards.filter((g) => !allowed.includes(g.code))
  return (
    <Plate
      title={`At ${d.account}`}
      aside={d.new_zone ? 'new zone; the sync creates it' : `${count(d.in_sync, 'set')} in sync`}
    >
      {guards.length > 0 && (
        <fieldset className="mb-4 rounded-plate border-2 border-alarm p-4">
          <legend className="px-1 font-semibold">{count(guards.length, 'guard')} must be allowed before the sync</legend>
          {guards.map((g) => (
            <div key={g.code + g.subject} className="mb-3">
              <Findings list={[g]} />
              <Check className="mt-1 ml-4" checked={allowed.includes(g.code)} onChange={(yes) => allow(yes ? [...allowed, g.code] : allowed.filter((c) => c !== g.code))}>
                Allow it
              </Check>
            </div>
          ))}
        </fieldset>
      )}
      {d.steps.length > 0 && <ChangeList steps={d.steps} zone={name} />}
      {d.steps.length === 0 && d.conflicts.length === 0 && <Nothing difference={d} />}
      <Items title="Changed at the provider" list={d.drift} zone={name}>
        <p className="mt-2 text-soft">They stay as they are until you revert or adopt them.</p>
        <div className="mt-2 flex flex-wrap gap-3">
          <Key onClick={() => setRevert(true)}>Revert to the desired records…</Key>
          <Key busy={adopt.isPending} onClick={() => adopt.mutate({ account: d.account, allow: allowed })}>
            Adopt the records of {d.account}
          </Key>
        </div>
      </Items>
      {revert && (
        <p className="mt-2">
          The change list reverts changes made at the provider.{' '}
          <button type="button" className="link" onClick={() => setRevert(false)}>
            Do not revert
          </button>
        </p>
      )}
      <Items title="Conflicts: changed here and at the provider" list={d.conflicts} zone={name}>
        <p className="text-soft">They block the sync. Correct the definition, or the record at the provider.</p>
      </Items>
      <Items title="Foreign records, not touched" list={d.foreign} zone={name} />
      {d.notes.length > 0 && (
        <div className="mt-4">
          <Findings list={d.notes} />
        </div>
      )}
      {(start.error ?? adopt.error) && (
        <div className="mt-4">
          <Trouble error={(start.error ?? adopt.error)!} />
        </div>
      )}
      {sync && <SyncProgress sync={sync} said={[...guards, ...d.notes].map((g) => g.code)} />}
      {(d.steps.length > 0 || d.new_zone) && (
        <div className="mt-4 flex flex-wrap items-center gap-3">
          <Key
            weight="main"
            busy={start.isPending || running}
            disabled={blocked.length > 0 || d.conflicts.length > 0}
            onClick={() => start.mutate({ account: d.account, allow: allowed, expect: d.digest, revert })}
          >
            {running ? 'Syncing' : `Sync to ${d.account}`}
          </Key>
          <span className="text-soft">
            {count(d.steps.length, 'change')} in {count(d.requests, 'request')}
            {blocked.length > 0 && '; allow the guards above first'}
          </span>
        </div>
      )}
    </Plate>
  )
}
