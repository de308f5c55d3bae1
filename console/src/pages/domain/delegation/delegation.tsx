// Changing a domain's nameservers at its registrar. Both sides are asked first; a gate that would lose answers stops it. Saving a list
// there does not make it active, and that is where hours get lost: it is said where it happens.
import { useState } from 'react'
import { Link } from 'react-router'
import { Problem } from '../../../api/client'
import { useActs, useDelegate, useDomain, usePlan } from '../../../api/hooks'
import type { Delegated, DelegateRequest } from '../../../api/types'
import { Findings } from '../../../parts/findings'
import { Key, Loading, Notice, Plate, Trouble } from '../../../parts/kit'
import { Names } from '../../../parts/names'
import { moves, useName } from '../domain'
import { ActProgress } from './act-progress'
import { ByHand } from './by-hand'
import { DS } from './ds'
import { Gates } from './gates'
import { Locks } from './locks'
import { Timetable } from './timetable'

const key = (list: string[]) => [...list].sort().join(' ')

const plain: DelegateRequest = { nameservers: [], save_only: false, undo: false, override: [], reason: '', agree: '' }

export function Delegation() {
  const name = useName()
  const [how, setHow] = useState(plain)
  const plan = usePlan(name, how)
  const delegate = useDelegate(name)
  const acts = useActs(name)
  const domain = useDomain(name)
  const last = delegate.data?.id ?? acts.data?.items.find((a) => a.kind === 'delegate')?.id
  if (plan.isPending) {
    return (
      <>
        <p className="mb-3 text-soft">Asking the registrar, the parent and both sides …</p>
        <Loading />
      </>
    )
  }
  if (!plan.data) {
    return (
      <div className="grid gap-3">
        <Trouble error={plan.error} again={() => void plan.refetch()} />
        {how.undo && (
          <div>
            <Key onClick={() => setHow(plain)}>Back to the desired nameservers</Key>
          </div>
        )}
        {plan.error instanceof Problem && plan.error.status < 500 && (
          <p className="text-soft">
            Nameservers can be changed once the new ones answer for the zone. See{' '}
            <Link className="link" to={`/domains/${encodeURIComponent(name)}/changes`}>
              what is to be written to the provider
            </Link>
            .
          </p>
        )}
      </div>
    )
  }
  const saved = plan.data.before
  const moving = moves(domain.data?.handover)
  return (
    <div className="grid gap-5">
      {moving && (
        <Notice light="settling" title="A handover moves this domain.">
          It changes the nameservers and the DS.{' '}
          <Link className="link" to={`/domains/${encodeURIComponent(name)}/handover`}>
            See the handover
          </Link>
          .
        </Notice>
      )}
      {plan.data.by_hand && <ByHand plan={plan.data} busy={delegate.isPending} begin={moving ? undefined : () => delegate.mutate(how, { onSuccess: () => void plan.refetch() })} />}
      {!plan.data.by_hand && !moving && (
        <State plan={plan.data} saved={saved} name={name} busy={delegate.isPending} act={() => delegate.mutate({ ...how, save_only: false })} />
      )}
      {last !== undefined && !plan.data.by_hand && <ActProgress id={last} />}
      <Plate title={plan.data.by_hand ? 'At the parent' : plan.data.in_zone ? `In the zone ${plan.data.in_zone}` : `At the registrar: ${plan.data.registrar}`}>
        <div className="grid gap-4 md:grid-cols-2 xl:grid-cols-4">
          {!plan.data.by_hand && <Column title={plan.data.in_zone ? 'Written to its providers' : 'Active there'} list={saved.active} wanted={plan.data.wanted} />}
          {!plan.data.by_hand && key(saved.saved) !== key(saved.active) && saved.saved.length > 0 && <Column title="Saved, not active" list={saved.saved} wanted={plan.data.wanted} />}
          <Column title="The parent serves" list={plan.data.parent} wanted={plan.data.wanted} />
          {!moving && <Column title={how.undo ? 'The set before' : 'New nameservers'} list={plan.data.wanted} wanted={[]} />}
        </div>
        <div className="mt-4">
          <Findings list={plan.data.findings.filter((f) => f.severity !== 'error')} />
        </div>
      </Plate>
      {!moving && !how.undo && !inForce(saved, plan.data) && <Timetable name={name} how={how} />}
      <Gates plan={plan.data} how={how} change={setHow} busy={plan.isFetching} />
      {delegate.error && <Trouble error={delegate.error} />}
      {!plan.data.by_hand && !moving && <Act plan={plan.data} saved={saved} busy={delegate.isPending} act={(saveOnly) => delegate.mutate({ ...how, save_only: saveOnly })} />}
      <DS name={name} />
      {!plan.data.by_hand && !plan.data.in_zone && <Locks name={name} registrar={plan.data.registrar} status={saved.status} reasons={saved.reasons} />}
      {!moving && <p className="text-soft">
        {how.undo ? (
          <Key onClick={() => setHow(plain)}>Back to the desired nameservers</Key>
        ) : (
          <Key onClick={() => setHow({ ...plain, undo: true })}>Prepare to undo the last change</Key>
        )}
      </p>}
    </div>
  )
}

function Column({ title, list, wanted }: { title: string; list: string[]; wanted: string[] }) {
  return (
    <div>
      <h3 className="mb-1 text-fine font-semibold text-soft">{title}</h3>
      <Names list={list} wanted={wanted} />
    </div>
  )
}

type Lists = { active: string[]; saved: string[] }

const inForce = (saved: Lists, plan: Delegated) => key(saved.active) === key(plan.wanted)
const onlySaved = (saved: Lists, plan: Delegated) => !inForce(saved, plan) && key(saved.saved) === key(plan.wanted)

function State({ plan, saved, name, busy, act }: { plan: Delegated; saved: Lists; name: string; busy: boolean; act: () => void }) {
  if (inForce(saved, plan)) {
    return (
      <Notice light="settled" title={plan.in_zone ? `The zone ${plan.in_zone} has this delegation.` : 'The registrar has these nameservers active.'}>
        <Link className="link" to={`/domains/${encodeURIComponent(name)}`}>
          Watch which resolvers see them
        </Link>
        .
      </Notice>
    )
  }
  if (onlySaved(saved, plan)) {
    return (
      <Notice light="alarm" title="The list is saved at the registrar, and not active.">
        <p>The registrar shows the new list and continues to publish the old one. Waiting does not change that.</p>
        {plan.closed.length === 0 && (
          <Key weight="main" className="mt-3" busy={busy} onClick={act}>
            Make the list active
          </Key>
        )}
      </Notice>
    )
  }
  return (
    <Notice light="settling" title={plan.in_zone ? `The zone ${plan.in_zone} does not have this delegation yet.` : 'The registrar has another list active.'}>
      {plan.in_zone ? 'That zone is managed here. ' : ''}Both sides were asked just now. Nothing has been changed yet.
    </Notice>
  )
}

type ActProps = { plan: Delegated; saved: Lists; busy: boolean; act: (saveOnly: boolean) => void }

function Act({ plan, saved, busy, act }: ActProps) {
  if (inForce(saved, plan) || plan.closed.length > 0 || onlySaved(saved, plan)) return null
  return (
    <Plate title="Change the nameservers">
      <p>
        {plan.in_zone ? (
          <>
            The delegation is written into <strong>{plan.in_zone}</strong>, at each of its providers. The records of that zone, and the file that may manage it, stay as they are.
          </>
        ) : plan.activation ? (
          <>
            At this registrar a change takes two steps: the list is <strong>saved</strong>, and then <strong>made active</strong>. Only an active list reaches the parent. This
            button does both.
          </>
        ) : (
          'At this registrar a list is active once it is saved.'
        )}
      </p>
      <div className="mt-4 flex flex-wrap gap-3">
        <Key weight="main" busy={busy} onClick={() => act(false)}>
          {plan.in_zone ? 'Write the delegation' : plan.activation ? 'Save and make active' : 'Save the list'}
        </Key>
        {plan.activation && (
          <Key busy={busy} onClick={() => act(true)}>
            Save without activating
          </Key>
        )}
      </div>
    </Plate>
  )
}
