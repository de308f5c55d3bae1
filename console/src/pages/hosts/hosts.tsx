// Names that follow a reported address: the state of each, and a form for a new one.
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import * as z from 'zod/mini'
import { useAddHost, useHosts } from '../../api/hooks'
import type { Host } from '../../api/types'
import { Form, FormKeys, Input } from '../../parts/form'
import { Tick } from '../../parts/form-choices'
import { Empty, Key, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { Tag } from '../../parts/lamp'
import { EmptyMooring } from '../../parts/pictures'
import { plain, wall } from '../../parts/text'
import { progress } from './progress'

export function Hosts() {
  const hosts = useHosts()
  const [params] = useSearchParams()
  const [adding, setAdding] = useState(params.has('add'))
  return (
    <>
      <title>Hosts · Agile Beacon</title>
      <PageHead title="Dynamic hosts" lead="Names that follow a reported address: cameras, home lines, anything that moves.">
        {!adding && (
          <Key weight="main" onClick={() => setAdding(true)}>
            Add dynamic host
          </Key>
        )}
      </PageHead>
      {adding && <Add close={() => setAdding(false)} />}
      <Shown query={hosts}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty picture={<EmptyMooring />} title="No dynamic hosts yet">
              A dynamic host gets a token that can report its own address and nothing else. When it reports a new address, the record is written to the provider immediately.
            </Empty>
          ) : (
            <ul className="grid gap-3">{items.map((h) => <Row key={h.name} host={h} />)}</ul>
          )
        }
      </Shown>
    </>
  )
}

function Row({ host: h }: { host: Host }) {
  const { light, word } = progress(h.last)
  return (
    <li className="plate relative flex flex-wrap items-center gap-x-5 gap-y-2 p-4 hover:border-accent">
      <div className="min-w-0 flex-1 basis-64">
        <Link className="text-lead font-semibold wrap-anywhere after:absolute after:inset-0" to={`/hosts/${plain(h.name)}`}>
          {plain(h.name)}
        </Link>
        <p className="data">{[h.v4, h.v6].filter(Boolean).join('  ') || 'nothing reported yet'}</p>
      </div>
      <Tag light={light}>{word}</Tag>
      <p className="text-fine text-soft">{h.seen_at ? `last reported ${wall(h.seen_at)}` : 'never reported'}</p>
    </li>
  )
}

const host = z
  .object({
    name: z.string().check(z.trim(), z.regex(/^[^\s.]+(\.[^\s.]+)+\.?$/, 'Give the full name, such as pier-cam.saltmarsh-ferries.example.')),
    v4: z.boolean(),
    v6: z.boolean(),
  })
  .check(z.refine((h) => h.v4 || h.v6, { path: ['name'], error: 'Choose IPv4, IPv6 or both.' }))

function Add({ close }: { close: () => void }) {
  const add = useAddHost()
  if (add.data) return <Token name={plain(add.data.name)} token={add.data.token} close={close} />
  return (
    <Plate title="Add dynamic host" className="mb-5">
      <Form schema={host} values={{ name: '', v4: true, v6: true }} onSubmit={(h) => add.mutate(h)} className="grid gap-4">
        <Input name="name" label="Name, in a zone that is managed here" autoFocus placeholder="pier-cam.saltmarsh-ferries.example" className="max-w-lg" />
        <fieldset>
          <legend className="label">Address families</legend>
          <Tick name="v4">IPv4 (A)</Tick>
          <Tick name="v6">IPv6 (AAAA)</Tick>
        </fieldset>
        {add.error && <Trouble error={add.error} />}
        <FormKeys action="Create token" busy={add.isPending} cancel={close} />
      </Form>
    </Plate>
  )
}

function Token({ name, token, close }: { name: string; token: string; close: () => void }) {
  const [copied, setCopied] = useState(false)
  const copy = () => void navigator.clipboard.writeText(token).then(() => setCopied(true))
  return (
    <Plate title={`Token of ${name}`} className="mb-5 border-2 border-settling">
      <p>
        This token can report the address of this name and nothing else. It is shown <strong>only once</strong>: copy it now.
      </p>
      <p className="data my-3 rounded-key bg-sunken p-3 select-all" data-token>
        {token}
      </p>
      <p className="mb-1">The machine, or its router, reports with one request. Without an address, the service uses the one that the request comes from:</p>
      <pre className="data rounded-key bg-sunken p-3 whitespace-pre-wrap" tabIndex={0}>{`curl -u ${name}:TOKEN '${location.origin}/api/v1/report'
curl -u ${name}:TOKEN '${location.origin}/api/v1/report?v4=ADDRESS&v6=ADDRESS'`}</pre>
      <div className="mt-4 flex gap-3">
        <Key weight="main" onClick={copy}>
          {copied ? 'Copied' : 'Copy the token'}
        </Key>
        <Key weight="quiet" onClick={close}>
          Close
        </Key>
      </div>
    </Plate>
  )
}
