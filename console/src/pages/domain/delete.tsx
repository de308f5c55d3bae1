// Deleting a zone: what would be lost, which gates block it, and a reason where one is passed.
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { useDeleteZone, useDeletion } from '../../api/hooks'
import { Check } from '../../parts/check'
import { Findings } from '../../parts/findings'
import { Key, Loading, Plate, Trouble } from '../../parts/kit'
import { count } from '../../parts/text'

export function DeletePlate({ name }: { name: string }) {
  const [asking, ask] = useState(false)
  return (
    <Plate title="Delete zone" className="mt-5">
      {asking ? (
        <Asking name={name} close={() => ask(false)} />
      ) : (
        <>
          <p className="text-soft">Deletes records, revisions, dynamic hosts and checks here. Nothing changes at a provider or registrar.</p>
          <Key className="mt-3" onClick={() => ask(true)}>
            Review deletion
          </Key>
        </>
      )}
    </Plate>
  )
}

function Asking({ name, close }: { name: string; close: () => void }) {
  const preview = useDeletion(name)
  const remove = useDeleteZone(name)
  const go = useNavigate()
  const [passed, pass] = useState<string[]>([])
  const [reason, setReason] = useState('')
  const leave = (
    <Key className="mt-3" onClick={close}>
      Cancel
    </Key>
  )
  if (preview.error)
    return (
      <>
        <Trouble error={preview.error} />
        {leave}
      </>
    )
  if (!preview.data) return <Loading rows={1} label="Checking whether the zone can be deleted" />
  const { guards, records, hosts } = preview.data
  const blocked = guards.some((g) => !passed.includes(g.code)) || (guards.length > 0 && reason.trim() === '')
  return (
    <>
      <p>
        {count(records, 'record')} and {count(hosts, 'dynamic host')} will be deleted. This cannot be undone.
      </p>
      {guards.map((g) => (
        <div key={g.code} className="mt-3">
          <Findings list={[g]} />
          <Check className="mt-1 ml-4" checked={passed.includes(g.code)} onChange={(yes) => pass(yes ? [...passed, g.code] : passed.filter((c) => c !== g.code))}>
            Override this safety gate
          </Check>
        </div>
      ))}
      {guards.length > 0 && (
        <label className="mt-3 grid max-w-md gap-1">
          <span className="text-fine font-semibold text-soft">Reason, for the logbook</span>
          <input value={reason} onChange={(e) => setReason(e.target.value)} className="min-h-10 rounded-key border border-line-strong bg-surface px-3" />
        </label>
      )}
      {remove.error && (
        <div className="mt-3">
          <Trouble error={remove.error} />
        </div>
      )}
      <div className="flex flex-wrap gap-3">
        <Key
          className="mt-3"
          busy={remove.isPending}
          disabled={blocked}
          onClick={() => remove.mutate({ override: passed, reason }, { onSuccess: () => void go('/') })}
        >
          Delete {name}
        </Key>
        {leave}
      </div>
    </>
  )
}
