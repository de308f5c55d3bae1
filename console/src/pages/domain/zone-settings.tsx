// How a zone is looked after: what becomes of changes made elsewhere, what is protected, which attributes sets have.
import { useId, useState } from 'react'
import { useSetZoneSettings } from '../../api/hooks'
import type { ZoneSettings } from '../../api/types'
import { Check } from '../../parts/check'
import { Key, Plate, Trouble } from '../../parts/kit'

const drifts = [
  { value: 'manual', say: 'are shown; a user decides' },
  { value: 'revert', say: 'are reverted automatically' },
  { value: 'adopt', say: 'are adopted automatically' },
]

export function ZoneSettingsPlate({ name, settings, managedBy }: { name: string; settings: ZoneSettings; managedBy: string }) {
  const [editing, edit] = useState(false)
  return (
    <Plate title="Zone settings" className="mt-5" aside={managedBy ? `set in ${managedBy}` : undefined}>
      {editing ? (
        <Form name={name} settings={settings} close={() => edit(false)} />
      ) : (
        <>
          <p>
            Changes made elsewhere {drifts.find((d) => d.value === settings.drift)?.say}.{settings.keep_existing && ' Record sets that were at the provider before are kept.'}
          </p>
          <p>
            Websites: <span className="data">{settings.websites?.join(', ') || 'none'}</span>
          </p>
          {settings.protect.length > 0 && (
            <p>
              Protected: <span className="data">{settings.protect.join(', ')}</span>
            </p>
          )}
          {settings.attributes.map((e) => (
            <p key={e.set + e.name}>
              <span className="data">{e.set}</span> has {e.name} <span className="data">{e.value}</span> where the provider knows it.
            </p>
          ))}
          {managedBy ? (
            <p className="mt-2 text-soft">A definition file manages the zone: change the settings there.</p>
          ) : (
            <Key className="mt-3" onClick={() => edit(true)}>
              Change settings
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
function attribute(line: string): ZoneSettings['attributes'][number] {
  const [, set = line, name = '', value = ''] = /^(\S+\s+\S+)\s+([^\s=]+)=(.*)$/.exec(line) ?? []
  return { set, name, value: value.trim() }
}

function Form({ name, settings, close }: { name: string; settings: ZoneSettings; close: () => void }) {
  const set = useSetZoneSettings(name)
  const id = useId()
  function submit(event: React.FormEvent<HTMLFormElement>) {
    event.preventDefault()
    const form = new FormData(event.currentTarget)
    set.mutate(
      { drift: String(form.get('drift')), keep_existing: form.has('keep_existing'), protect: lines(form.get('protect')), websites: String(form.get('websites')).split(/[\s,]+/).filter(Boolean), attributes: lines(form.get('attributes')).map(attribute) },
      { onSuccess: close },
    )
  }
  return (
    <form onSubmit={submit} className="grid gap-4">
      <div className="max-w-lg">
        <label className="label" htmlFor={id + 'drift'}>
          Changes made elsewhere
        </label>
        <select id={id + 'drift'} name="drift" className="field" defaultValue={settings.drift}>
          {drifts.map((d) => (
            <option key={d.value} value={d.value}>
              {d.say}
            </option>
          ))}
        </select>
      </div>
      <Check name="keep_existing" defaultChecked={settings.keep_existing}>
        Keep record sets that were at the provider before
      </Check>
      <div className="max-w-lg">
        <label className="label" htmlFor={id + 'websites'}>
          Websites
        </label>
        <input id={id + 'websites'} name="websites" spellCheck={false} className="field data" defaultValue={settings.websites?.join(', ')} />
        <p className="mt-1 text-fine text-soft">@ is the domain itself; checks visit each of them</p>
      </div>
      <div className="grid gap-4 sm:grid-cols-2">
        <div>
          <label className="label" htmlFor={id + 'protect'}>
            Protected sets, a pattern a line
          </label>
          <textarea id={id + 'protect'} name="protect" rows={3} spellCheck={false} className="field data" defaultValue={settings.protect.join('\n')} />
          <p className="mt-1 text-fine text-soft">Such as @ MX, or www *</p>
        </div>
        <div>
          <label className="label" htmlFor={id + 'attributes'}>
            Attributes of sets, one a line
          </label>
          <textarea id={id + 'attributes'} name="attributes" rows={3} spellCheck={false} className="field data" defaultValue={settings.attributes.map((e) => `${e.set} ${e.name}=${e.value}`).join('\n')} />
          <p className="mt-1 text-fine text-soft">Such as www A relay=on</p>
        </div>
      </div>
      {set.error && <Trouble error={set.error} />}
      <div className="flex gap-3">
        <Key type="submit" weight="main" busy={set.isPending}>
          Keep this
        </Key>
        <Key weight="quiet" onClick={close}>
          Cancel
        </Key>
      </div>
    </form>
  )
}
