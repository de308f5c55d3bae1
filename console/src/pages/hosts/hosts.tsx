// Names that follow a reported address: where each stands, and the making of a new one.
import { useId, useState } from 'react'
import { Link } from 'react-router'
import { useAddHost, useHosts } from '../../api/hooks'
import type { Host } from '../../api/types'
import { Check } from '../../parts/check'
import { Empty, Key, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { Tag } from '../../parts/lamp'
import { EmptyMooring } from '../../parts/pictures'
import { plain, wall } from '../../parts/text'
import { progress } from './progress'

export function Hosts() {
  const hosts = useHosts()
  const [adding, setAdding] = useState(false)
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

function Add({ close }: { close: () => void }) {
  const add = useAddHost()
  const id = useId()
  if (add.data) return <Token name={plain(add.data.name)} token={add.data.token} close={close} />
  function submit(event: React.FormEvent<HTMLFormElement>) {
    event.preventDefault()
    const form = new FormData(event.currentTarget)
    add.mutate({ name: String(form.get('name')).trim(), v4: form.has('v4'), v6: form.has('v6') })
  }
  return (
    <Plate title="Add dynamic host" className="mb-5">
      <form onSubmit={submit} className="grid gap-4">
        <div className="max-w-lg">
          <label className="label" htmlFor={id}>
            Name, in a zone that is managed here
          </label>
          <input id={id} name="name" required autoFocus autoCapitalize="none" spellCheck={false} className="field" placeholder="pier-cam.saltmarsh-ferries.example" />
        </div>
        <fieldset>
          <legend className="label">It follows</legend>
          <Check name="v4" defaultChecked>
            IPv4 (A)
          </Check>
          <Check name="v6" defaultChecked>
            IPv6 (AAAA)
          </Check>
        </fieldset>
        {add.error && <Trouble error={add.error} />}
        <div className="flex gap-3">
          <Key type="submit" weight="main" busy={add.isPending}>
            Create token
          </Key>
          <Key weight="quiet" onClick={close}>
            Cancel
          </Key>
        </div>
      </form>
    </Plate>
  )
}

function Token({ name, token, close }: { name: string; token: string; close: () => void }) {
  const [copied, setCopied] = useState(false)
  const copy = () => void navigator.clipboard.writeText(token).then(() => setCopied(true))
  return (
    <Plate title={`${name} follows now`} className="mb-5 border-2 border-settling">
      <p>
        Its token can report this one address and nothing else. It is shown <strong>only once</strong>: copy it now.
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
