// The gates that are closed before a domain moves, and the two ways past them: agree to just these differences, or pass a gate by name,
// with a reason for the logbook.
import * as z from 'zod/mini'
import type { Delegated, DelegateRequest } from '../../../api/types'
import { Findings } from '../../../parts/findings'
import { Form, Input } from '../../../parts/form'
import { Key, Plate } from '../../../parts/kit'
import { count } from '../../../parts/text'

type GatesProps = { plan: Delegated; how: DelegateRequest; change: (how: DelegateRequest) => void; busy: boolean }

const why = z.object({ reason: z.string().check(z.trim(), z.minLength(1, 'Give a reason: passing a gate loses answers.')) })

export function Gates({ plan, how, change, busy }: GatesProps) {
  const passed = plan.findings.filter((f) => f.severity === 'error' && (how.override ?? []).includes(f.code))
  const codes = [...new Set(plan.closed.map((f) => f.code))]
  const differs = codes.includes('sides-differ')
  if (plan.closed.length === 0 && passed.length === 0) return null
  return (
    <Plate title={plan.closed.length > 0 ? `${count(plan.closed.length, 'gate')} closed: moving now would lose answers` : 'Gates overridden'}>
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
          <Form
            schema={why}
            values={{ reason: '' }}
            className="flex flex-wrap items-end gap-3"
            onSubmit={({ reason }) => change({ ...how, override: [...(how.override ?? []), ...codes], reason })}
          >
            <Input name="reason" label="Reason, for the logbook" placeholder="the old provider is closing today" className="grow" />
            <Key busy={busy} type="submit">
              Override {count(codes.length, 'gate')}
            </Key>
          </Form>
        </div>
      )}
    </Plate>
  )
}
