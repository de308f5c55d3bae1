// Beginning a handover: where the zone goes, and what it would be. Nothing at the registrar changes before it is allowed.
import { useState } from 'react'
import { Link } from 'react-router'
import { useBeginHandover } from '../../../api/handovers'
import { useAccounts, useDomain } from '../../../api/hooks'
import type { Handover, HandoverRequest } from '../../../api/types'
import { Check } from '../../../parts/check'
import { Findings } from '../../../parts/findings'
import { Key, Plate, Trouble } from '../../../parts/kit'
import { Choice } from '../../../parts/select'

export function Begin({ name, again }: { name: string; again: boolean }) {
  const accounts = useAccounts('provider')
  const domain = useDomain(name).data
  const waits = domain?.passage.some((s) => s.code === 'delegated' && s.state !== 'done')
  const [chosen, setTo] = useState<string>()
  const to = chosen ?? (waits && domain?.providers.length === 1 ? domain.providers[0]! : '') // where the zone is already
  const [from, setFrom] = useState('')
  const [sign, setSign] = useState(false)
  const [keepOld, setKeepOld] = useState(false)
  const [window, setWindow] = useState('')
  const [lower, setLower] = useState(false)
  const [batch, setBatch] = useState('')
  const [atOnce, setAtOnce] = useState(2)
  const begin = useBeginHandover(name)
  const preview = useBeginHandover(name)
  const request = (dry_run: boolean): HandoverRequest => ({ to, from, nameservers: [], gap: false, lower, sign, keep_old: keepOld, grace: null, allow: [], batch: batch.trim(), at_once: batch.trim() ? atOnce : 0, window, timezone: window ? Intl.DateTimeFormat().resolvedOptions().timeZone : '', reason: '', dry_run })
  const options = accounts.data?.items.map((a) => ({ value: a.name, explain: a.kind })) ?? []
  const twice = accounts.data?.items.filter((a) => a.caps?.another && domain?.providers.includes(a.name) && !options.some((o) => o.value === `${a.name}/2`)) ?? []
  const targets = [...options, ...twice.map((a) => ({ value: `${a.name}/2`, explain: 'a second zone there, with other nameservers' }))]
  if (accounts.data && options.length === 0) {
    return (
      <Plate title="Move this domain">
        Connect an account at the new provider first:{' '}
        <Link className="link" to="/accounts">
          Accounts
        </Link>
        .
      </Plate>
    )
  }
  return (
    <Plate title={again ? 'Move this domain again' : 'Move this domain to another provider'}>
      <p className="max-w-2xl text-soft">
        The zone is placed at the new account and both sides are compared. Each step waits until it loses no answer; you are asked before the registrar is, and before the old zone goes.
      </p>
      <div className="mt-4 grid max-w-2xl gap-4 sm:grid-cols-2">
        <div>
          <label className="label" htmlFor="to">
            New provider
          </label>
          <Choice id="to" value={to} options={targets} onChange={setTo} placeholder="choose an account" />
        </div>
        <div>
          <label className="label" htmlFor="from">
            Old provider
          </label>
          <Choice id="from" value={from} options={[{ value: '', label: 'the one with the active nameservers' }, { value: '-', label: 'none: leave the old zone as it is' }, ...options]} onChange={setFrom} />
        </div>
        <div className="sm:col-span-2">
          <label className="label" htmlFor="window">
            Window
          </label>
          <input id="window" className="field data" value={window} placeholder="Tue 02:00-04:00" aria-describedby="window-means" onChange={(e) => setWindow(e.target.value)} />
          <p id="window-means" className="mt-0.5 text-fine text-soft">
            Nameservers, DS records and zones are changed only then, in your timezone. Empty: at any time.
          </p>
        </div>
        <div className="grid gap-4 sm:col-span-2 sm:grid-cols-2">
        <div>
          <label className="label" htmlFor="batch">
            Batch
          </label>
          <input id="batch" className="field" value={batch} maxLength={100} placeholder="harbour move" aria-describedby="batch-means" onChange={(e) => setBatch(e.target.value)} />
          <p id="batch-means" className="mt-0.5 text-fine text-soft">
            Domains of one batch move so many at a time, and stop where one is in trouble. Empty: on its own.
          </p>
        </div>
        {batch.trim() && (
          <div>
            <label className="label" htmlFor="at-once">
              At a time
            </label>
            <input id="at-once" type="number" min={1} className="field data" value={atOnce} onChange={(e) => setAtOnce(Math.max(1, e.target.valueAsNumber || 1))} />
          </div>
        )}
        </div>
        <Check checked={sign} onChange={setSign}>
          Publish a DS at the end
        </Check>
        <Check checked={lower} onChange={setLower}>
          Lower TTLs before the move
        </Check>
        <Check checked={keepOld} onChange={setKeepOld}>
          Keep the old zone
        </Check>
      </div>
      <div className="mt-4 flex flex-wrap gap-3">
        <Key weight="main" disabled={!to} busy={begin.isPending} onClick={() => begin.mutate(request(false))}>
          Begin handover
        </Key>
        <Key disabled={!to} busy={preview.isPending} onClick={() => preview.mutate(request(true))}>
          Preview steps
        </Key>
      </div>
      {begin.error && <Trouble error={begin.error} />}
      {preview.error && <Trouble error={preview.error} />}
      {preview.data && <Preview h={preview.data} />}
    </Plate>
  )
}

function Preview({ h }: { h: Handover }) {
  return (
    <div className="mt-4">
      <h3 className="font-semibold">Steps, foreseen</h3>
      <ol className="mt-2 grid list-decimal gap-1 pl-6">
        {h.steps.map((s, i) => (
          <li key={i}>
            {s.text}
            {s.needs && <span className="text-soft"> · you have to allow it</span>}
            {(s.until ?? s.at) && <span className="data text-fine text-soft"> {(s.until ?? s.at)!.slice(0, 19).replace('T', ' ')}</span>}
          </li>
        ))}
      </ol>
      {h.hanging.length > 0 && (
        <div className="mt-3">
          <h3 className="mb-1 font-semibold">What else hangs on the old nameservers</h3>
          <Findings list={h.hanging} />
        </div>
      )}
      <p className="mt-2 text-soft">This is a preview. Nothing was changed.</p>
    </div>
  )
}
