// One location: its uplinks, the hosts that follow them, and by which rules.
import { useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import { useChangeLocation, useLocation, useRemoveLocation } from '../../api/hooks'
import type { Location } from '../../api/types'
import { Confirm } from '../../parts/confirm'
import { Key, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { Keys } from './keys'
import { HostRow } from './row'
import { PolicyPlate } from './policy'
import { Uplinks } from './uplinks'

export function LocationPage() {
  const name = useParams().location ?? ''
  const remove = useRemoveLocation()
  const location = useLocation(name, !remove.isPending && !remove.isSuccess)
  return (
    <>
      <title>{`${name} · Agile Beacon`}</title>
      <Shown query={location}>
        {(l) => (
          <>
            <PageHead title={`Location ${name}`} lead={l.description || 'Its dynamic hosts follow the first uplink that reports.'}>
              {l.hosts.length === 0 && <Remove name={name} remove={remove} />}
            </PageHead>
            <div className="grid gap-5">
              <Plate title="Uplinks" aside="the best one first">
                <Uplinks list={l.uplinks} />
              </Plate>
              <Plate title="Dynamic hosts">
                {l.hosts.length === 0 ? (
                  <p className="text-soft">No dynamic host follows it yet.</p>
                ) : (
                  <ul className="grid gap-3">
                    {l.hosts.map((h) => (
                      <HostRow key={h.name} host={h} there />
                    ))}
                  </ul>
                )}
              </Plate>
              <Policy location={l} />
            </div>
            <Keys of={l.uplinks.map((u) => `${name}/${u.name}`)} />
          </>
        )}
      </Shown>
    </>
  )
}

function Policy({ location: l }: { location: Location }) {
  const change = useChangeLocation(l)
  return <PolicyPlate own={l.policy ?? {}} holds={l.rules} aside="what its hosts inherit" change={change} failover={l.uplinks.length > 1} />
}

function Remove({ name, remove }: { name: string; remove: ReturnType<typeof useRemoveLocation> }) {
  const go = useNavigate()
  const [asking, ask] = useState(false)
  return (
    <>
      <Key onClick={() => ask(true)}>Remove location…</Key>
      <Confirm open={asking} onOpen={ask} title={`Remove location ${name}?`} action="Remove location" busy={remove.isPending} onConfirm={() => remove.mutate(name, { onSuccess: () => void go('/hosts') })}>
        <p>The tokens of its uplinks are revoked.</p>
        {remove.error && <Trouble error={remove.error} />}
      </Confirm>
    </>
  )
}
