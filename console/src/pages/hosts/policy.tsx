// Which addresses are accepted, how quickly, and what becomes of a name that is silent: shown, and changed.
import { useState } from 'react'
import type { Policy } from '../../api/types'
import { Form, FormKeys, Input } from '../../parts/form'
import { Pick } from '../../parts/form-choices'
import { Key, Plate, Trouble } from '../../parts/kit'
import { inherited, policyOf, sourceOptions, texts, typed, wayOptions } from './policy-text'
import { rules } from './progress'

type Change = { mutate: (policy: Policy, then: { onSuccess: () => void }) => void; isPending: boolean; error: Error | null; reset: () => void }

/** own is what is set here, holds what holds with what is inherited. */
export function PolicyPlate({ own, holds, aside, className, change, failover }: { own: Policy; holds: Policy; aside: string; className?: string; change: Change; failover: boolean }) {
  const [open, setOpen] = useState(false)
  const close = () => {
    change.reset()
    setOpen(false)
  }
  return (
    <Plate title="Policy" aside={aside} className={className}>
      {open ? (
        <Fields own={own} holds={holds} change={change} failover={failover} close={close} />
      ) : (
        <>
          <dl className="grid gap-x-5 gap-y-1.5 sm:grid-cols-[9rem_1fr]">
            {rules(holds).map(([term, text]) => (
              <div key={term} className="contents">
                <dt className="text-soft">{term}</dt>
                <dd>{text}</dd>
              </div>
            ))}
          </dl>
          <Key className="mt-4" onClick={() => setOpen(true)}>
            Change policy
          </Key>
        </>
      )}
    </Plate>
  )
}

function Fields({ own, holds, change, failover, close }: { own: Policy; holds: Policy; change: Change; failover: boolean; close: () => void }) {
  const now = inherited(holds, own)
  const wide = 'sm:col-span-2'
  return (
    <Form schema={typed} values={texts(own)} onSubmit={(t) => change.mutate(policyOf(t), { onSuccess: close })} className="grid gap-x-5 gap-y-4 sm:grid-cols-2" label="Policy">
      <p className={`${wide} text-soft`}>A field that is empty is inherited; it shows what holds now.</p>
      <Input name="networks" label="Accept addresses of" data placeholder={now.networks} className={wide} explain="Networks, separated by commas, private ones too; public for every public address." autoFocus />
      <Pick name="second_source" label="Confirmed by" options={sourceOptions(now.second_source)} />
      <Input name="min_interval" label="Least time between two changes" data placeholder={now.min_interval} />
      <Input name="hold_down" label="Hold-down of the third quick change" data placeholder={now.hold_down} explain="Twice as long for each further one; 0s for none." />
      <Input name="max_hold_down" label="Longest hold-down" data placeholder={now.max_hold_down} />
      <Input name="silence" label="Silent after" data placeholder={now.silence} explain="Time without any report, such as 2h; 0s for never." />
      <Pick name="on_silence" label="When silent" options={wayOptions(now.on_silence)} />
      <Input name="fallback_v4" label="Fallback IPv4 address" data placeholder={now.fallback_v4} />
      <Input name="fallback_v6" label="Fallback IPv6 address" data placeholder={now.fallback_v6} />
      {failover && <Input name="failover" label="Next uplink after" data placeholder={now.failover} explain="Time without a report of the uplink that is followed." />}
      <div className={wide}>
        {change.error && <Trouble error={change.error} />}
        <FormKeys action="Save policy" busy={change.isPending} cancel={close} />
      </div>
    </Form>
  )
}
