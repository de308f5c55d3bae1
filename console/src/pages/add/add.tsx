// Adding a domain: who holds it, which records it has where it is served now, and which of them become desired records.
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import * as z from 'zod/mini'
import { useGather, useGathering, useHolder } from '../../api/gatherings'
import { Form, Input } from '../../parts/form'
import { Key, Notice, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { plain } from '../../parts/text'
import { Unfold } from '../../parts/unfold'
import { Found } from './found'

export function Add() {
  const [search, setSearch] = useSearchParams()
  const name = search.get('zone') ?? ''
  const account = useHolder(name).data?.account
  return (
    <>
      <title>Add a domain · Agile Beacon</title>
      <PageHead title={name ? `Add ${name}` : 'Add a domain'} lead="Find its records where it is served now. You review them before they are accepted; nothing is changed at a provider or registrar." />
      <div className="grid gap-5">
        <Ask key={name} name={name} chosen={(zone) => setSearch({ zone }, { replace: true })} />
        {name && <Holder name={name} />}
        {name && <Found name={name} />}
        <p className="text-soft">
          A zone that exists nowhere yet, or is kept in files:{' '}
          <Link className="link" to={name ? `/apply?zone=${encodeURIComponent(name)}${account ? `&registrar=${account}` : ''}` : '/apply'}>
            apply a definition
          </Link>
          .
        </p>
      </div>
    </>
  )
}

const asked = z.object({
  zone: z.string().check(z.trim(), z.regex(/^[^\s.]+(\.[^\s.]+)+\.?$/, 'Enter the name of the domain, such as saltmarsh-ferries.example.')),
  names: z.string(),
})

function Ask({ name, chosen }: { name: string; chosen: (zone: string) => void }) {
  const gather = useGather()
  const gathering = useGathering(name).data
  const [file, setFile] = useState<{ name: string; text: string }>()
  return (
    <Plate>
      <Form
        label="Domain"
        schema={asked}
        values={{ zone: name, names: '' }}
        className="grid max-w-2xl gap-4"
        onSubmit={(a) =>
          gather.mutate(
            { name: a.zone, names: a.names.split(/[\s,]+/).filter(Boolean), file: file?.name ?? '', text: file?.text ?? '' },
            { onSuccess: () => chosen(a.zone.replace(/\.$/, '')) },
          )
        }
      >
        <Input name="zone" label="Domain" placeholder="saltmarsh-ferries.example" data autoFocus={!name} />
        <Unfold summary="Names that you know, or a zone file">
          <div className="mt-2 grid gap-4">
            <Input name="names" label="Names" data rows={3} placeholder="pier-cam, printer.office" explain="Where its nameservers have to be asked name by name, these are asked for as well as usual ones." />
            <label className="grid gap-1">
              <span className="label">Zone file</span>
              <input
                type="file"
                className="field"
                onChange={async (e) => {
                  const picked = e.target.files?.[0]
                  setFile(picked && { name: picked.name, text: await picked.text() })
                }}
              />
            </label>
          </div>
        </Unfold>
        <div>
          <Key type="submit" weight={gathering?.finished_at ? undefined : 'main'} busy={gather.isPending || (gathering != null && !gathering.finished_at)}>
            {gathering?.finished_at ? 'Find records again' : 'Find records'}
          </Key>
        </div>
        {gather.error && <Trouble error={gather.error} />}
      </Form>
    </Plate>
  )
}

function Holder({ name }: { name: string }) {
  const holder = useHolder(name)
  return (
    <Plate title="Who holds it">
      <Shown query={holder} rows={1}>
        {(h) => (
          <>
            <dl className="grid gap-x-5 gap-y-1 sm:grid-cols-[9rem_1fr]">
              {[
                ['Registrar', h.registrar],
                ['Account', h.account],
                ['Expires', h.expires?.slice(0, 10) ?? ''],
                ['Status', h.status.join(', ')],
                ['Nameservers', h.nameservers.map(plain).join(', ')],
                ['DNSSEC', h.signed ? 'the parent has a DS' : ''],
              ]
                .filter(([, text]) => text)
                .map(([label, text]) => (
                  <div key={label} className="contents">
                    <dt className="text-soft">{label}</dt>
                    <dd className="wrap-anywhere">{text}</dd>
                  </div>
                ))}
            </dl>
            <p className="mt-2">{h.advice}</p>
            {h.problem && (
              <Notice light="none" title="Its registry was not asked">
                {h.problem}
              </Notice>
            )}
          </>
        )}
      </Shown>
    </Plate>
  )
}
