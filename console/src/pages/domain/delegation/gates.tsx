// The gates that are closed before a domain moves, and the two ways past them: agree to just these differences, or pass a gate by name,
// with a reason for the logbook.
import { useId, useState } from 'react'
import type { Delegated, DelegateRequest } from '../../../api/types'
import { Findings } from '../../../parts/findings'
import { Key, Plate } from '../../../parts/kit'
import { count } from '../../../parts/text'

type GatesProps = { plan: Delegated; how: DelegateRequest; change: (how: DelegateRequest) => void; busy: boolean }

export function Gates({ plan, how, change, busy }: GatesProps) {
  const id = useId()
  const [reason, setReason] = useState('')
  const passed = plan.findings.filter((f) => f.severity === 'error' && (how.override ?? []).includes(f.code))
  const codes = [...new Set(plan.closed.map((f) => f.code))]
  const differs = codes.includes('sides-differ')
  if (plan.closed.length === 0 && passed.length === 0) return null
  return (
    <Plate title={plan.closed.length > 0 ? `${count(plan.closed.length, 'gate')} closed: moving now would lose answers` : 'Gates passed by name'}>
      <Findings list={plan.closed.length > 0 ? plan.closed : passed} />
      {plan.closed.map(
        (f, i) =>
          f.seen && (
            <ul key={i} className="data mt-2 grid gap-1 text-soft">
              {f.seen.map((line) => (
                <li key={line} className="wrap-anywhere">
                  {line}
                </li>
              ))}
            </ul>
          ),
      )}
      {plan.closed.length > 0 && (
        <div className="mt-4 grid gap-3">
          {differs && (
            <div>
              <Key busy={busy} onClick={() => change({ ...how, agree: plan.digest })}>
                Agree to these differences
              </Key>
            </div>
          )}
          <form
            className="flex flex-wrap items-end gap-3"
            onSubmit={(e) => {
              e.preventDefault()
              change({ ...how, override: [...(how.override ?? []), ...codes], reason })
            }}
          >
            <div className="grow">
              <label htmlFor={id} className="mb-1 block font-semibold">
                Reason, for the logbook
              </label>
              <input id={id} required value={reason} onChange={(e) => setReason(e.target.value)} className="field" placeholder="the old provider is closing today" />
            </div>
            <Key busy={busy} type="submit">
              Pass {count(codes.length, 'gate')}
            </Key>
          </form>
        </div>
      )}
    </Plate>
  )
}
