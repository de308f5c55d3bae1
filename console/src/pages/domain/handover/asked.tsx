// The one thing that a handover asks of a user, and the button that answers it.
import { useState } from 'react'
import { Link } from 'react-router'
import * as z from 'zod/mini'
import { useHandoverWord } from '../../../api/handovers'
import type { Handover } from '../../../api/types'
import { Confirm } from '../../../parts/confirm'
import { Form, Input } from '../../../parts/form'
import { Key, Notice, Trouble } from '../../../parts/kit'
import { plain } from '../../../parts/text'

const actions: Record<string, { key: string; means: string }> = {
  delegate: { key: 'Allow the change of nameservers', means: 'Both sides answer the same, and every gate is open. From then on resolvers come over, each as its copy expires.' },
  'remove-ds': { key: 'Allow the removal of the DS', means: 'Until the new DS is published, resolvers do not validate the domain. Without this step validating resolvers would get no answer after the change.' },
  'add-ds': { key: 'Allow the publication of the DS', means: 'From then on validating resolvers expect signatures. Every new nameserver serves them.' },
  retire: { key: 'Allow the removal of the old zone', means: 'No cache that keeps to TTLs asks there any more. The removal cannot be undone, and going back ends with it.' },
}

export function Asked({ h, name }: { h: Handover; name: string }) {
  const word = useHandoverWord(name)
  const [asking, setAsking] = useState(false)
  const asked = h.asked
  if (!asked || h.state === 'paused') return null
  const action = actions[asked.do ?? '']
  const say = () => word.mutate({ allow: [asked.do ?? ''] })
  return (
    <Notice light={asked.kind === 'fix' ? 'alarm' : 'settling'} title="Asked of you">
      <p className="wrap-anywhere">{asked.text}</p>
      {asked.kind === 'allow' && action && (
        <>
          <p className="text-soft">{action.means}</p>
          <Key weight="main" className="mt-3" busy={word.isPending} onClick={() => (asked.do === 'retire' ? setAsking(true) : say())}>
            {action.key}
          </Key>
        </>
      )}
      {asked.kind === 'by-hand' && (
        <>
          <ul className="data mt-2 grid gap-1">
            {(asked.enter ?? []).map((n) => (
              <li key={n}>{plain(n)}</li>
            ))}
          </ul>
          <p className="mt-2 text-soft">
            Then press “Check now”: the handover goes on once every parent server serves it.{' '}
            <Link className="link" to={`/domains/${encodeURIComponent(name)}/delegation`}>
              What forms of registrars object to
            </Link>
            .
          </p>
        </>
      )}
      {asked.kind === 'fix' && <Pass code={asked.gate ?? ''} busy={word.isPending} pass={(reason) => word.mutate({ pass: [asked.gate ?? ''], reason })} />}
      {word.error && <Trouble error={word.error} />}
      <Confirm
        title={`Remove ${name} from ${h.from}?`}
        action="Remove the old zone"
        busy={word.isPending}
        open={asking}
        onOpen={setAsking}
        onConfirm={() => {
          say()
          setAsking(false)
        }}
      >
        {actions.retire!.means}
      </Confirm>
    </Notice>
  )
}

const why = z.object({ reason: z.string().check(z.trim(), z.minLength(1, 'Give a reason: passing a gate loses answers.')) })

function Pass({ code, busy, pass }: { code: string; busy: boolean; pass: (reason: string) => void }) {
  const [open, setOpen] = useState(false)
  if (!open) {
    return (
      <Key weight="quiet" className="mt-2" onClick={() => setOpen(true)}>
        Pass this gate
      </Key>
    )
  }
  return (
    <Form schema={why} values={{ reason: '' }} className="mt-3 flex flex-wrap items-end gap-3" onSubmit={({ reason }) => pass(reason)} label={`Pass the gate ${code}`}>
      <Input name="reason" label="Reason, for the logbook" placeholder="the old provider is closing today" className="grow" />
      <Key busy={busy} type="submit" weight="grave">
        Pass gate, lose answers
      </Key>
    </Form>
  )
}
