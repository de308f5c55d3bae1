// One change for everything that a search finds: shown zone by zone first, then done wholly or not at all.
import { type FormEvent, useId, useState } from 'react'
import { useReplace, useSyncOperation } from '../../api/hooks'
import type { ReplaceRequest } from '../../api/types'
import { Check } from '../../parts/check'
import { Key, Notice, Trouble } from '../../parts/kit'
import { RecordLines } from '../../parts/record-lines'
import { count, plain } from '../../parts/text'
import { Unfold } from '../../parts/unfold'

export function Replace({ text, type, changed }: { text: string; type: string; changed: () => void }) {
  const id = useId()
  const look = useReplace()
  const done = useReplace()
  const sync = useSyncOperation()
  const [to, setTo] = useState('')
  const [ttl, setTTL] = useState('')
  const [reason, setReason] = useState('')
  const [skip, setSkip] = useState(false)
  const ask = (more: Partial<ReplaceRequest>): ReplaceRequest => ({
    search: { text, type, zone: '', name: '', value: '', address: '', ttl: '', cursor: '', limit: 0 },
    to: to.trim(), ttl: ttl === '' ? null : Number(ttl), skip_managed: skip, reason, dry_run: true, expect: '', ...more,
  })
  function submit(e: FormEvent) {
    e.preventDefault()
    look.mutate(ask({}))
  }
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
      <form onSubmit={submit} className="mt-3 grid gap-3">
        <div className="grid gap-3 sm:grid-cols-[1fr_8rem]">
          <div>
            <label className="label" htmlFor={id + 'to'}>
              New data of the records
            </label>
            <input id={id + 'to'} value={to} onChange={(e) => (setTo(e.target.value), look.reset())} spellCheck={false} autoCapitalize="none" className="field data" placeholder="192.0.2.50" />
          </div>
          <div>
            <label className="label" htmlFor={id + 'ttl'}>
              TTL
            </label>
            <input id={id + 'ttl'} value={ttl} onChange={(e) => (setTTL(e.target.value), look.reset())} inputMode="numeric" pattern="[0-9]*" className="field data" placeholder="as it is" />
          </div>
        </div>
        <div>
          <Key type="submit" busy={look.isPending} disabled={to.trim() === '' && ttl === ''}>
            Show what would change
          </Key>
        </div>
      </form>
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
