// A definition need not be written by hand: it is drafted from a zone as it is now, at another provider or in a zone file.
import { useId, useState } from 'react'
import * as z from 'zod/mini'
import { useAccounts, useHouseKit, useGenerate, useRegistrations } from '../../api/hooks'
import type { Account, DefinitionFile } from '../../api/types'
import { Form, Input } from '../../parts/form'
import { Pick, Several, Tick } from '../../parts/form-choices'
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
            {(p) => <Generate zone={zone} registrar={registrar} providers={p.items} registrars={registrars.data?.items ?? []} drafted={drafted} />}
          </Shown>
        </div>
      </Unfold>
    </Plate>
  )
}

type FormProps = { zone: string; registrar: string; providers: Account[]; registrars: Account[]; drafted: Drafted }

const asked = z.object({
  zone: z.string().check(z.trim(), z.regex(/^[^\s.]+(\.[^\s.]+)+\.?$/, 'Give the name of the domain, such as saltmarsh-ferries.example.')),
  registrar: z.string(),
  providers: z.array(z.string()).check(z.minLength(1, 'Choose at least one provider.')),
  fresh: z.boolean(),
})

function Generate({ zone, registrar, providers, registrars, drafted }: FormProps) {
  const draft = useGenerate()
  const registrations = useRegistrations(registrar)
  const now = registrations.data?.items.find((r) => plain(r.name) === zone)?.active.map(plain) ?? []
  const id = useId()
  const [file, setFile] = useState<DefinitionFile>()
  const house = useHouseKit()
  return (
    <Form
      key={registrars.length}
      schema={asked}
      values={{ zone, registrar, providers: [], fresh: false }}
      className="grid gap-4 md:grid-cols-2"
      onSubmit={(a) =>
        draft.mutate(
          { zone: a.zone, providers: a.providers, registrar: a.registrar, file: file?.name ?? '', text: file?.text ?? '', new: a.fresh },
          { onSuccess: (d) => drafted({ name: `${a.zone}.beacon.yaml`, text: d.text }) },
        )
      }
    >
      <Input name="zone" label="Domain" placeholder="saltmarsh-ferries.example" />
      <Pick name="registrar" label="Registered at" options={[{ value: '', label: 'not set' }, ...registrars.map((r) => ({ value: r.name }))]} />
      <fieldset>
        <legend className="label">Providers</legend>
        {now.length > 0 && <p className="text-fine text-soft">It is served by {now.join(', ')}.</p>}
        <Several name="providers" options={providers.map((p) => p.name)} />
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
        <Tick name="fresh" className="mt-2">
          New zone that exists nowhere yet{house.data?.name && `: start with the kit ${house.data.name}`}
        </Tick>
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
    </Form>
  )
}
