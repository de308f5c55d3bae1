// One change for everything that a search finds: shown zone by zone first, then done wholly or not at all.
import { useId, useState } from 'react'
import * as z from 'zod/mini'
import { useReplace, useSyncOperation } from '../../api/hooks'
import type { ReplaceRequest } from '../../api/types'
import { Check } from '../../parts/check'
import { Form, Input } from '../../parts/form'
import { Key, Notice, Trouble } from '../../parts/kit'
import { RecordLines } from '../../parts/record-lines'
import { count, plain } from '../../parts/text'
import { Unfold } from '../../parts/unfold'

const changes = z
  .object({ to: z.string().check(z.trim()), ttl: z.string().check(z.trim(), z.regex(/^[0-9]*$/, 'Give seconds, such as 300.')) })
  .check(z.refine((v) => v.to !== '' || v.ttl !== '', { path: ['to'], error: 'Give new data or a new TTL.' }))

export function Replace({ text, type, changed }: { text: string; type: string; changed: () => void }) {
  const id = useId()
  const look = useReplace()
  const done = useReplace()
  const sync = useSyncOperation()
  const [{ to, ttl }, setNew] = useState({ to: '', ttl: '' })
  const [reason, setReason] = useState('')
  const [skip, setSkip] = useState(false)
  const ask = (more: Partial<ReplaceRequest>): ReplaceRequest => ({
    search: { text, type, zone: '', name: '', value: '', address: '', ttl: '', cursor: '', limit: 0 },
    to, ttl: ttl === '' ? null : Number(ttl), skip_managed: skip, reason, dry_run: true, expect: '', ...more,
  })
  const plan = look.data
  const operation = done.data?.operation
  if (operation)
    return (
      <Notice light="settled" title={`Bulk change ${operation.id}: ${operation.what}.`}>
        <p>You can undo it below. Nothing is written to a provider yet.</p>
        <div className="mt-2 flex flex-wrap gap-2">
          {sync.data ? (
            <p>{count(sync.data.items.length, 'sync')} started; the logbook shows how they end.</p>
          ) : (
            <Key weight="main" busy={sync.isPending} onClick={() => sync.mutate(operation.id)}>
              Sync these zones
            </Key>
          )}
        </div>
        {sync.error && <Trouble error={sync.error} />}
      </Notice>
    )
  return (
    <Unfold className="plate p-4 sm:p-5" heading summary="Bulk replace (can be undone)">
      <Form
        schema={changes}
        values={{ to: '', ttl: '' }}
        onSubmit={(v) => (setNew(v), look.mutate(ask({ to: v.to, ttl: v.ttl === '' ? null : Number(v.ttl) })))}
        className="mt-3 grid gap-3"
      >
        <div className="grid gap-3 sm:grid-cols-[1fr_8rem]">
          <Input name="to" label="New data of the records" data placeholder="192.0.2.50" />
          <Input name="ttl" label="TTL" data inputMode="numeric" placeholder="as it is" />
        </div>
        <div>
          <Key type="submit" busy={look.isPending}>
            Show what would change
          </Key>
        </div>
      </Form>
      {look.error && <div className="mt-3"><Trouble error={look.error} /></div>}
      {plan && plan.zones.length === 0 && plan.skipped.length === 0 && <p className="mt-3 text-soft">Nothing would change.</p>}
      {plan && (plan.zones.length > 0 || plan.skipped.length > 0) && (
        <div className="mt-4 grid gap-3">
          <p className="font-semibold">
            {count(plan.records, 'record')} in {count(plan.zones.length, 'zone')}:
          </p>
          <div className="grid max-h-96 gap-3 overflow-y-auto" tabIndex={0} role="region" aria-label="What would change">
            {plan.zones.map((z) => (
              <div key={z.zone}>
                <h3 className="font-semibold">{plain(z.zone)}</h3>
                <RecordLines
                  zone={z.zone}
                  removed={z.steps.flatMap((s) => s.before.data.filter((d) => !s.after.data.includes(d) || s.after.ttl !== s.before.ttl).map((data) => ({ ...s.before, data })))}
                  added={z.steps.flatMap((s) => s.after.data.filter((d) => !s.before.data.includes(d) || s.after.ttl !== s.before.ttl).map((data) => ({ ...s.after, data })))}
                />
              </div>
            ))}
          </div>
          {plan.skipped.length > 0 && (
            <div>
              <p>
                {count(plan.skipped.length, 'zone')} managed by definition files; change them there: {plan.skipped.map(plain).join(', ')}.
              </p>
              <Check checked={skip} onChange={setSkip}>
                Leave them out
              </Check>
            </div>
          )}
          {plan.zones.length > 0 && (
            <>
              <div>
                <label className="label" htmlFor={id + 'reason'}>
                  Reason, for the logbook
                </label>
                <input id={id + 'reason'} value={reason} onChange={(e) => setReason(e.target.value)} className="field" placeholder="the web host moved" />
              </div>
              {done.error && <Trouble error={done.error} />}
              <div>
                <Key weight="main" busy={done.isPending} disabled={plan.skipped.length > 0 && !skip} onClick={() => done.mutate(ask({ dry_run: false, expect: plan.digest }), { onSuccess: changed })}>
                  Change {count(plan.records, 'record')} in {count(plan.zones.length, 'zone')}
                </Key>
              </div>
            </>
          )}
        </div>
      )}
    </Unfold>
  )
}
