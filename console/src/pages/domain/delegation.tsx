// Changing a domain's nameservers at its registrar. Saving a list there does not put it in force, and that is where
// hours get lost: it is said where it happens.
import { Link } from 'react-router'
import { Problem } from '../../api/client'
import { useDelegate, usePlan } from '../../api/hooks'
import type { Delegated } from '../../api/types'
import { Findings } from '../../parts/findings'
import { Key, Loading, Notice, Plate, Trouble } from '../../parts/kit'
import { Names } from '../../parts/names'
import { useName } from './domain'

const key = (list: string[]) => [...list].sort().join(' ')

export function Delegation() {
  const name = useName()
  const plan = usePlan(name)
  const delegate = useDelegate(name)
  if (plan.isPending) {
    return (
      <>
        <p className="mb-3 text-soft">Asking the registrar, the parent and the new nameservers …</p>
        <Loading />
      </>
    )
  }
  if (!plan.data) {
    return (
      <div className="grid gap-3">
        <Trouble error={plan.error} again={() => void plan.refetch()} />
        {plan.error instanceof Problem && plan.error.status < 500 && (
          <p className="text-soft">
            Nameservers can be changed once the new ones answer for the zone. See{' '}
            <Link className="link" to={`/domains/${name}/changes`}>
              what is to be written to the provider
            </Link>
            .
          </p>
        )}
      </div>
    )
  }
  const now = delegate.data ?? plan.data
  const saved = delegate.data ? delegate.data.after : plan.data.before
  return (
    <div className="grid gap-5">
      <Standing plan={now} saved={saved} name={name} />
      <Plate title={`At the registrar: ${now.registrar}`}>
        <div className="grid gap-4 md:grid-cols-2 xl:grid-cols-4">
          <Column title="In force there" list={saved.active} wanted={now.wanted} />
          {key(saved.saved) !== key(saved.active) && saved.saved.length > 0 && <Column title="Saved, not in force" list={saved.saved} wanted={now.wanted} />}
          <Column title="The parent serves" list={now.parent} wanted={now.wanted} />
          <Column title="Wanted" list={now.wanted} wanted={[]} />
        </div>
        {now.findings.length > 0 && (
          <div className="mt-4">
            <Findings list={now.findings} />
          </div>
        )}
      </Plate>
      {delegate.error && <Trouble error={delegate.error} />}
      <Act plan={now} saved={saved} busy={delegate.isPending} act={(saveOnly) => delegate.mutate({ saveOnly })} />
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

function Standing({ plan, saved, name }: { plan: Delegated; saved: Lists; name: string }) {
  if (inForce(saved, plan)) {
    return (
      <Notice light="settled" title="The wanted nameservers are in force at the registrar.">
        {plan.next}{' '}
        <Link className="link" to={`/domains/${name}`}>
          Watch who sees them
        </Link>
        .
      </Notice>
    )
  }
  if (onlySaved(saved, plan)) {
    return (
      <Notice light="wrong" title="The list is saved at the registrar, and not in force.">
        This is where hours get lost: the registrar keeps the new list, shows it, and goes on publishing the old one. However long one waits, nothing will arrive. Make it
        active below.
      </Notice>
    )
  }
  return (
    <Notice light="settling" title="The registrar has another list in force than is wanted.">
      The new nameservers were asked just now; what they answer, and how that differs from the old ones, is said below. Nothing has been changed yet.
    </Notice>
  )
}

function Act({ plan, saved, busy, act }: { plan: Delegated; saved: Lists; busy: boolean; act: (saveOnly: boolean) => void }) {
  if (inForce(saved, plan)) return null
  if (onlySaved(saved, plan)) {
    return (
      <div>
        <Key weight="main" busy={busy} onClick={() => act(false)}>
          Make it active
        </Key>
      </div>
    )
  }
  return (
    <Plate title="Change the nameservers">
      <p>
        At this registrar a change takes two steps: the list is <strong>saved</strong>, and then <strong>made active</strong>. Only an active list reaches the parent. Both are done
        here in one go.
      </p>
      <div className="mt-4 flex flex-wrap gap-3">
        <Key weight="main" busy={busy} onClick={() => act(false)}>
          Save and make active
        </Key>
        <Key busy={busy} onClick={() => act(true)}>
          Save only, for later
        </Key>
      </div>
    </Plate>
  )
}
