// The DS records of a domain: what the parent serves, what fits the keys of its nameservers, and the change from one to the other.
import { useState } from 'react'
import { useChangeDS, useDS } from '../../../api/hooks'
import { Confirm } from '../../../parts/confirm'
import { Findings } from '../../../parts/findings'
import { Key, Plate, Trouble } from '../../../parts/kit'
import { ActProgress } from './act-progress'

export function DS({ name }: { name: string }) {
  const [open, setOpen] = useState(false)
  const ds = useDS(name, open)
  const change = useChangeDS(name)
  const [removing, setRemoving] = useState(false)
  const d = ds.data
  return (
    <Plate title="DS records" aside="lead validating resolvers from the parent to the keys of the zone">
      {!open && <Key onClick={() => setOpen(true)}>Compare DS records with the keys</Key>}
      {open && ds.isPending && <p className="text-soft">Asking the parent and every nameserver …</p>}
      {ds.error && <Trouble error={ds.error} again={() => void ds.refetch()} />}
      {d && (
        <div className="grid gap-4">
          <Records title="The parent serves" list={d.parent} />
          {!d.by_hand && <Records title={`At ${d.registrar}`} list={d.before} />}
          <Records title="Fits the keys of the nameservers" list={d.ds} />
          <Findings list={d.findings} />
          <p>{d.next}</p>
          {!d.by_hand && (
            <div className="flex flex-wrap gap-3">
              {d.pending && d.ds.length > 0 && d.closed.length === 0 && (
                <Key weight="main" busy={change.isPending} onClick={() => change.mutate(false)}>
                  Publish the DS records
                </Key>
              )}
              {d.before.length > 0 && <Key onClick={() => setRemoving(true)}>Remove the DS records</Key>}
            </div>
          )}
          {change.error && <Trouble error={change.error} />}
          {change.data && <ActProgress id={change.data.id} />}
        </div>
      )}
      <Confirm
        title={`Remove the DS records of ${name}?`}
        action="Remove the DS records"
        open={removing}
        onOpen={setRemoving}
        onConfirm={() => {
          setRemoving(false)
          change.mutate(true)
        }}
      >
        Resolvers stop validating the zone. Keep it signed until every cache has dropped the DS.
      </Confirm>
    </Plate>
  )
}

function Records({ title, list }: { title: string; list: string[] }) {
  return (
    <div>
      <h3 className="mb-1 text-fine font-semibold text-soft">{title}</h3>
      {list.length === 0 ? (
        <p className="text-soft">none</p>
      ) : (
        <ul>
          {list.map((r) => (
            <li key={r} className="data wrap-anywhere">
              {r}
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}
