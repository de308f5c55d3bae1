// Names that follow a reported address: the state of each, the locations that they follow, and forms for new ones.
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import * as z from 'zod/mini'
import { useAddHost, useAddLocation, useHosts, useLocations } from '../../api/hooks'
import { Form, FormKeys, Input } from '../../parts/form'
import { Pick, Tick } from '../../parts/form-choices'
import { Empty, Key, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { EmptyMooring } from '../../parts/pictures'
import { plain } from '../../parts/text'
import { HostRow } from './row'
import { Tokens } from './token'
import { Uplinks } from './uplinks'

export function Hosts() {
  const hosts = useHosts()
  const [params] = useSearchParams()
  const [adding, setAdding] = useState(params.has('add') ? 'host' : params.has('add-location') ? 'location' : '')
  return (
    <>
      <title>Hosts · Agile Beacon</title>
      <PageHead title="Dynamic hosts" lead="Names that follow a reported address: cameras, home lines, anything that moves.">
        {!adding && (
          <>
            <Key onClick={() => setAdding('location')}>Add location</Key>
            <Key weight="main" onClick={() => setAdding('host')}>
              Add dynamic host
            </Key>
          </>
        )}
      </PageHead>
      {adding === 'host' && <Add close={() => setAdding('')} />}
      {adding === 'location' && <AddLocation close={() => setAdding('')} />}
      <Shown query={hosts}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty picture={<EmptyMooring />} title="No dynamic hosts yet">
              A dynamic host gets a token that can report its own address and nothing else. When it reports a new address, the record is written to the provider immediately.
            </Empty>
          ) : (
            <ul className="grid gap-3">{items.map((h) => <HostRow key={h.name} host={h} />)}</ul>
          )
        }
      </Shown>
      <Locations />
    </>
  )
}

const host = z
  .object({
    name: z.string().check(z.trim(), z.regex(/^[^\s.]+(\.[^\s.]+)+\.?$/, 'Give the full name, such as pier-cam.saltmarsh-ferries.example.')),
    v4: z.boolean(),
    v6: z.boolean(),
    location: z.string(),
  })
  .check(z.refine((h) => h.v4 || h.v6, { path: ['name'], error: 'Choose IPv4, IPv6 or both.' }))

function Add({ close }: { close: () => void }) {
  const add = useAddHost()
  const locations = useLocations()
  if (add.data?.token) {
    const name = plain(add.data.name)
    return <Tokens title={`Token of ${name}`} name={name} tokens={[{ name, token: add.data.token }]} close={close} />
  }
  const options = [{ value: '', label: 'its own token' }, ...(locations.data?.items ?? []).map((l) => ({ value: l.name, label: `location ${l.name}` }))]
  return (
    <Plate title="Add dynamic host" className="mb-5">
      <Form schema={host} values={{ name: '', v4: true, v6: true, location: '' }} onSubmit={(h) => add.mutate(h, { onSuccess: (made) => made.token || close() })} className="grid gap-4">
        <Input name="name" label="Name, in a zone that is managed here" autoFocus placeholder="pier-cam.saltmarsh-ferries.example" className="max-w-lg" />
        <fieldset>
          <legend className="label">Address families</legend>
          <Tick name="v4">IPv4 (A)</Tick>
          <Tick name="v6">IPv6 (AAAA)</Tick>
        </fieldset>
        {options.length > 1 && <Pick name="location" label="Reported with" options={options} className="max-w-lg" />}
        {add.error && <Trouble error={add.error} />}
        <FormKeys action="Create token" busy={add.isPending} cancel={close} />
      </Form>
    </Plate>
  )
}

const place = z.object({
  name: z.string().check(z.trim(), z.regex(/^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$/, 'Lower-case letters, digits and hyphens, such as pier.')),
  uplinks: z.string().check(z.trim(), z.regex(/^[a-z0-9-]+([ ,]+[a-z0-9-]+)*$/, 'Names of uplinks, the best one first, such as fibre, lte.')),
})

function AddLocation({ close }: { close: () => void }) {
  const add = useAddLocation()
  if (add.data) return <Tokens title={`Tokens of location ${add.data.name}`} name={add.data.name} tokens={add.data.tokens.map((t) => ({ name: t.uplink, token: t.token }))} close={close} />
  return (
    <Plate title="Add location" className="mb-5">
      <p className="mb-3">A location is a place with one or more uplinks. Its dynamic hosts follow the first uplink that reports.</p>
      <Form schema={place} values={{ name: '', uplinks: 'main' }} onSubmit={(l) => add.mutate({ name: l.name, uplinks: l.uplinks.split(/[ ,]+/) })} className="grid gap-4">
        <Input name="name" label="Name" autoFocus placeholder="pier" className="max-w-lg" />
        <Input name="uplinks" label="Uplinks, the best one first" placeholder="fibre, lte" className="max-w-lg" />
        {add.error && <Trouble error={add.error} />}
        <FormKeys action="Create tokens" busy={add.isPending} cancel={close} />
      </Form>
    </Plate>
  )
}

function Locations() {
  const locations = useLocations()
  const items = locations.data?.items ?? []
  if (items.length === 0) return null
  return (
    <Plate title="Locations" className="mt-6">
      <ul className="divide-y divide-line">
        {items.map((l) => (
          <li key={l.name} className="py-2">
            <Link className="link text-lead font-semibold" to={`/locations/${l.name}`}>
              {l.name}
            </Link>
            {l.description && <span className="text-soft"> {l.description}</span>}
            <Uplinks list={l.uplinks} />
          </li>
        ))}
      </ul>
    </Plate>
  )
}
