// Record sets that a user decides about: answers that no record need be behind, and what only one source has.
import { useId } from 'react'
import type { Gathering, GatheringDecision, GatheringDoubt } from '../../api/types'
import { Plate } from '../../parts/kit'
import { plain, relative } from '../../parts/text'
import { Unfold } from '../../parts/unfold'
import { about } from './found'

type Decide = { decisions: Record<string, GatheringDecision>; decide: (d: GatheringDecision) => void }

export function Doubts({ g, decisions, decide }: { g: Gathering } & Decide) {
  const open = g.doubts.filter((d) => d.open)
  const rest = g.doubts.filter((d) => !d.open)
  if (g.doubts.length === 0) return null
  const list = (doubts: GatheringDoubt[]) => (
    <ul className="grid gap-4">
      {doubts.map((d) => (
        <Doubt key={about(d) + d.kind} d={d} zone={plain(g.domain)} decision={decisions[about(d)]} decide={decide} />
      ))}
    </ul>
  )
  return (
    <Plate title={open.length > 0 ? 'Decide about these' : 'Left as the surest source has them'}>
      {open.length > 0 && list(open)}
      {rest.length > 0 && (open.length > 0 ? <Unfold summary={`${rest.length} more, left as the surest source has them`}>{list(rest)}</Unfold> : list(rest))}
    </Plate>
  )
}

function Doubt({ d, zone, decision, decide }: { d: GatheringDoubt; zone: string; decision: GatheringDecision | undefined; decide: (d: GatheringDecision) => void }) {
  const id = useId()
  const title = `${relative(d.name, zone)} ${d.type}`
  const choose = (choice: GatheringDecision['choice']) => decide({ name: d.name, type: d.type, choice, target: decision?.target ?? '' })
  const address = d.type === 'A' || d.type === 'AAAA'
  const options = [
    { value: 'keep', label: 'Keep what was seen' },
    { value: 'leave', label: 'Leave out' },
    ...(address && d.open ? [{ value: 'alias', label: 'Alias of another name' }] : []),
  ] as const
  return (
    <li>
      <fieldset className="grid gap-1.5">
        <legend className="font-semibold">
          {title} <span className="data font-normal">{d.data.join(', ')}</span>
        </legend>
        <p className="text-soft">{d.text}</p>
        <div className="flex flex-wrap gap-x-5 gap-y-1">
          {options.map((o) => (
            <label key={o.value} className="flex min-h-8 items-center gap-2">
              <input type="radio" className="size-4 accent-action" name={id} checked={decision?.choice === o.value} onChange={() => choose(o.value)} />
              {o.label}
            </label>
          ))}
        </div>
        {decision?.choice === 'alias' && (
          <label className="grid max-w-sm gap-1">
            <span className="label">Name that it is an alias of</span>
            <input className="field data" value={decision.target} placeholder="web.harbour-host.example" onChange={(e) => decide({ ...decision, target: e.target.value })} />
          </label>
        )}
      </fieldset>
    </li>
  )
}
