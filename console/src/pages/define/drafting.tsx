// A definition need not be written by hand: it is drafted from a zone as it is now, at another provider or in a zone file.
import { useId, useState } from 'react'
import { useAccounts, useDraft } from '../../api/hooks'
import type { Account, DefinitionFile } from '../../api/types'
import { Key, Plate, Shown, Trouble } from '../../parts/kit'
import { count } from '../../parts/text'

type Drafted = (file: DefinitionFile) => void

export function Drafting({ zone, registrar, drafted, open }: { zone: string; registrar: string; drafted: Drafted; open: boolean }) {
  const providers = useAccounts('provider')
  const registrars = useAccounts('registrar')
  const [shown, show] = useState(open)
  return (
    <Plate>
      <details open={shown} onToggle={(e) => show(e.currentTarget.open)}>
        <summary className="text-lead font-semibold">Draft it from a zone that exists already</summary>
        <div className="mt-3">
          <Shown query={providers} rows={1}>
            {(p) => <Form zone={zone} registrar={registrar} providers={p.items} registrars={registrars.data?.items ?? []} drafted={drafted} />}
          </Shown>
        </div>
      </details>
    </Plate>
  )
}

type FormProps = { zone: string; registrar: string; providers: Account[]; registrars: Account[]; drafted: Drafted }

function Form({ zone, registrar, providers, registrars, drafted }: FormProps) {
  const draft = useDraft()
  const id = useId()
  const [file, setFile] = useState<DefinitionFile>()
  function submit(event: React.FormEvent<HTMLFormElement>) {
    event.preventDefault()
    const form = new FormData(event.currentTarget)
    const name = String(form.get('zone')).trim()
    draft.mutate(
      { zone: name, at: form.getAll('at').map(String), registrar: String(form.get('registrar')), file: file?.name ?? '', text: file?.text ?? '' },
      { onSuccess: (d) => drafted({ name: `${name}.beacon.yaml`, text: d.text }) },
    )
  }
  return (
    <form onSubmit={submit} className="grid gap-4 md:grid-cols-2">
      <div>
        <label className="label" htmlFor={id + 'zone'}>
          Domain
        </label>
        <input id={id + 'zone'} name="zone" required defaultValue={zone} autoCapitalize="none" spellCheck={false} className="field" placeholder="saltmarsh-ferries.example" />
      </div>
      <div>
        <label className="label" htmlFor={id + 'registrar'}>
          Registered at
        </label>
        <select key={registrars.length} id={id + 'registrar'} name="registrar" defaultValue={registrar} className="field">
          <option value="">not said</option>
          {registrars.map((r) => (
            <option key={r.name}>{r.name}</option>
          ))}
        </select>
      </div>
      <fieldset>
        <legend className="label">It shall be served at</legend>
        {providers.map((p) => (
          <label key={p.name} className="mr-5 flex min-h-8 items-center gap-2">
            <input type="checkbox" name="at" value={p.name} className="size-5 accent-action" /> {p.name}
          </label>
        ))}
        {providers.length === 0 && <p className="text-soft">No provider is connected yet: beacon provider add.</p>}
      </fieldset>
      <div>
        <label className="label" htmlFor={id + 'file'}>
          Its records are in this zone file
        </label>
        <input
          id={id + 'file'}
          type="file"
          className="field"
          onChange={async (e) => {
            const picked = e.target.files?.[0]
            setFile(picked && { name: picked.name, text: await picked.text() })
          }}
        />
        <p className="mt-1 text-fine text-soft">Without a file, they are read from the connected provider that holds the zone now.</p>
      </div>
      <div className="md:col-span-2">
        <Key type="submit" weight="main" busy={draft.isPending}>
          Draft the definition
        </Key>
        {draft.data && (
          <p role="status" className="mt-2 text-soft">
            Drafted below, from {draft.data.from}. {count(draft.data.left_out.length, 'record')} (SOA and nameservers of the old provider) left out: the new provider brings its own.
          </p>
        )}
        {draft.error && (
          <div className="mt-3">
            <Trouble error={draft.error} />
          </div>
        )}
      </div>
    </form>
  )
}
