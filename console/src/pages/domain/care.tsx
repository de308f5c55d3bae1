// How a zone is looked after: what becomes of changes made elsewhere, what is protected, which attributes sets have.
import { useId, useState } from 'react'
import { useSetCare } from '../../api/hooks'
import type { Care } from '../../api/types'
import { Check } from '../../parts/check'
import { Key, Plate, Trouble } from '../../parts/kit'

const drifts = [
  { value: 'ask', say: 'are shown, and somebody decides' },
  { value: 'put back', say: 'are put back by themselves' },
  { value: 'adopt', say: 'are taken over by themselves' },
]

export function CarePlate({ name, care, ledBy }: { name: string; care: Care; ledBy: string }) {
  const [editing, edit] = useState(false)
  return (
    <Plate title="How it is looked after" className="mt-5" aside={ledBy ? `said in ${ledBy}` : undefined}>
      {editing ? (
        <Form name={name} care={care} close={() => edit(false)} />
      ) : (
        <>
          <p>
            Changes made elsewhere {drifts.find((d) => d.value === care.drift)?.say}.{care.only_ours && ' Sets that were there before us are left, whatever is wanted.'}
          </p>
          <p>
            Sites: <span className="data">{care.sites?.join(', ') || 'none'}</span>
          </p>
          {care.protect.length > 0 && (
            <p>
              Protected: <span className="data">{care.protect.join(', ')}</span>
            </p>
          )}
          {care.extras.map((e) => (
            <p key={e.set + e.name}>
              <span className="data">{e.set}</span> has {e.name} <span className="data">{e.value}</span> where the provider knows it.
            </p>
          ))}
          {ledBy ? (
            <p className="mt-2 text-soft">Its definition file leads: change it there.</p>
          ) : (
            <Key className="mt-3" onClick={() => edit(true)}>
              Change this
            </Key>
          )}
        </>
      )}
    </Plate>
  )
}

const lines = (text: FormDataEntryValue | null) =>
  (typeof text === 'string' ? text : '')
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)

/** "www A relay=on" as an attribute; what is not written so is told by the service. */
function attribute(line: string): Care['extras'][number] {
  const [, set = line, name = '', value = ''] = /^(\S+\s+\S+)\s+([^\s=]+)=(.*)$/.exec(line) ?? []
  return { set, name, value: value.trim() }
}

function Form({ name, care, close }: { name: string; care: Care; close: () => void }) {
  const set = useSetCare(name)
  const id = useId()
  function submit(event: React.FormEvent<HTMLFormElement>) {
    event.preventDefault()
    const form = new FormData(event.currentTarget)
    set.mutate(
      { drift: String(form.get('drift')), only_ours: form.has('only_ours'), protect: lines(form.get('protect')), sites: String(form.get('sites')).split(/[\s,]+/).filter(Boolean), extras: lines(form.get('extras')).map(attribute) },
      { onSuccess: close },
    )
  }
  return (
    <form onSubmit={submit} className="grid gap-4">
      <div className="max-w-lg">
        <label className="label" htmlFor={id + 'drift'}>
          Changes made elsewhere
        </label>
        <select id={id + 'drift'} name="drift" className="field" defaultValue={care.drift}>
          {drifts.map((d) => (
            <option key={d.value} value={d.value}>
              {d.say}
            </option>
          ))}
        </select>
      </div>
      <Check name="only_ours" defaultChecked={care.only_ours}>
        Leave sets that were there before us, whatever is wanted
      </Check>
      <div className="max-w-lg">
        <label className="label" htmlFor={id + 'sites'}>
          Names that carry a site
        </label>
        <input id={id + 'sites'} name="sites" spellCheck={false} className="field data" defaultValue={care.sites?.join(', ')} />
        <p className="mt-1 text-fine text-soft">@ is the domain itself; checks look at each of them</p>
      </div>
      <div className="grid gap-4 sm:grid-cols-2">
        <div>
          <label className="label" htmlFor={id + 'protect'}>
            Protected sets, a pattern a line
          </label>
          <textarea id={id + 'protect'} name="protect" rows={3} spellCheck={false} className="field data" defaultValue={care.protect.join('\n')} />
          <p className="mt-1 text-fine text-soft">Such as @ MX, or www *</p>
        </div>
        <div>
          <label className="label" htmlFor={id + 'extras'}>
            Attributes of sets, one a line
          </label>
          <textarea id={id + 'extras'} name="extras" rows={3} spellCheck={false} className="field data" defaultValue={care.extras.map((e) => `${e.set} ${e.name}=${e.value}`).join('\n')} />
          <p className="mt-1 text-fine text-soft">Such as www A relay=on</p>
        </div>
      </div>
      {set.error && <Trouble error={set.error} />}
      <div className="flex gap-3">
        <Key type="submit" weight="main" busy={set.isPending}>
          Keep this
        </Key>
        <Key weight="quiet" onClick={close}>
          Not now
        </Key>
      </div>
    </form>
  )
}
