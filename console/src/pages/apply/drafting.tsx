// A definition need not be written by hand: it is drafted from a zone as it is now, at another provider or in a zone file.
import { useId, useState } from 'react'
import { useAccounts, useHouseKit, useGenerate, useRegistrations } from '../../api/hooks'
import type { Account, DefinitionFile } from '../../api/types'
import { Check } from '../../parts/check'
import { Key, Plate, Shown, Trouble } from '../../parts/kit'
import { count, plain } from '../../parts/text'
import { Unfold } from '../../parts/unfold'

type Drafted = (file: DefinitionFile) => void

export function Drafting({ zone, registrar, drafted, open }: { zone: string; registrar: string; drafted: Drafted; open: boolean }) {
  const providers = useAccounts('provider')
  const registrars = useAccounts('registrar')
  const [shown, show] = useState(open)
  return (
    <Plate>
      <Unfold heading open={shown} onOpen={show} summary="Generate a definition of an existing or a new zone">
        <div className="mt-3">
          <Shown query={providers} rows={1}>
            {(p) => <Form zone={zone} registrar={registrar} providers={p.items} registrars={registrars.data?.items ?? []} drafted={drafted} />}
          </Shown>
        </div>
      </Unfold>
    </Plate>
  )
}

type FormProps = { zone: string; registrar: string; providers: Account[]; registrars: Account[]; drafted: Drafted }

function Form({ zone, registrar, providers, registrars, drafted }: FormProps) {
  const draft = useGenerate()
  const registrations = useRegistrations(registrar)
  const now = registrations.data?.items.find((r) => plain(r.name) === zone)?.active.map(plain) ?? []
  const id = useId()
  const [file, setFile] = useState<DefinitionFile>()
  const [at, setAt] = useState<string[]>([])
  const [asked, ask] = useState(false)
  const [fresh, setFresh] = useState(false)
  const house = useHouseKit()
  const untold = asked && at.length === 0
  function submit(event: React.FormEvent<HTMLFormElement>) {
    event.preventDefault()
    const form = new FormData(event.currentTarget)
    const name = String(form.get('zone')).trim()
    ask(true)
    if (at.length === 0) return
    draft.mutate(
      { zone: name, providers: at, registrar: String(form.get('registrar')), file: file?.name ?? '', text: file?.text ?? '', new: fresh },
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
          <option value="">not set</option>
          {registrars.map((r) => (
            <option key={r.name}>{r.name}</option>
          ))}
        </select>
      </div>
      <fieldset>
        <legend className="label">Providers</legend>
        {now.length > 0 && <p className="text-fine text-soft">It is served by {now.join(', ')}.</p>}
        {providers.map((p) => (
          <Check key={p.name} name="at" value={p.name} checked={at.includes(p.name)} onChange={(yes) => setAt(yes ? [...at, p.name] : at.filter((n) => n !== p.name))}>
            {p.name}
          </Check>
        ))}
        {untold && (
          <p role="alert" className="text-alarm">
            Choose at least one provider.
          </p>
        )}
        {providers.length === 0 && <p className="text-soft">No provider is connected yet. Connect one on the page Accounts.</p>}
      </fieldset>
      <div>
        <label className="label" htmlFor={id + 'file'}>
          Zone file with its records
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
        <Check checked={fresh} onChange={setFresh} className="mt-2">
          New zone that exists nowhere yet{house.data?.name && `: start with the kit ${house.data.name}`}
        </Check>
      </div>
      <div className="md:col-span-2">
        <Key type="submit" weight="main" busy={draft.isPending}>
          Generate definition
        </Key>
        {draft.data && (
          <p role="status" className="mt-2 text-soft">
            Generated from {draft.data.from}; review it below.
            {draft.data.left_out.length > 0 && ` ${count(draft.data.left_out.length, 'record')} (SOA and nameservers) belong to the old provider and were left out.`}
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
