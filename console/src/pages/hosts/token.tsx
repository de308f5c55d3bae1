// What was just created reports with a token: it is shown once, and the page turns when the first report comes.
import { useState } from 'react'
import { useHosts } from '../../api/hooks'
import { Key, Plate } from '../../parts/kit'
import { Tag } from '../../parts/lamp'
import { plain } from '../../parts/text'
import { state } from './progress'

/** tokens: by the name of what reports. name: whose first report is waited for; of a location, any of its hosts. */
export function Tokens({ title, name, tokens, close }: { title: string; name: string; tokens: { name: string; token: string }[]; close: () => void }) {
  const [copied, setCopied] = useState('')
  const copy = (token: string) => void navigator.clipboard.writeText(token).then(() => setCopied(token))
  return (
    <Plate title={title} className="mb-5 border-2 border-settling">
      <p>
        {tokens.length === 1 ? 'This token can report the address of this name and nothing else. It is' : 'Each token can report for its uplink and nothing else. They are'} shown <strong>only once</strong>: copy now.
      </p>
      {tokens.map((t) => (
        <div key={t.name} className="my-3 flex flex-wrap items-center gap-3">
          {tokens.length > 1 && <span className="min-w-24 font-semibold">{t.name}</span>}
          <p className="data flex-1 basis-80 rounded-key bg-sunken p-3 select-all" data-token>
            {t.token}
          </p>
          <Key onClick={() => copy(t.token)}>{copied === t.token ? 'Copied' : 'Copy the token'}</Key>
        </div>
      ))}
      <p className="mb-1">The machine, or its router, reports with one request. Without an address, the service uses the one that the request comes from:</p>
      <pre className="data rounded-key bg-sunken p-3 whitespace-pre-wrap" tabIndex={0}>{`curl -u ${name}:TOKEN '${location.origin}/api/v1/report'
curl -u ${name}:TOKEN '${location.origin}/api/v1/report?v4=ADDRESS&v6=ADDRESS'`}</pre>
      <div className="mt-4 flex flex-wrap items-center gap-4">
        <Key weight="quiet" onClick={close}>
          Close
        </Key>
        <FirstReport name={name} />
      </div>
    </Plate>
  )
}

function FirstReport({ name }: { name: string }) {
  const hosts = useHosts()
  const host = hosts.data?.items.find((h) => plain(h.name) === name)
  if (!host) return null
  const { light, word } = state(host)
  return (
    <span role="status" className="flex items-center gap-3">
      <Tag light={light}>{word}</Tag>
      <span className="data">{[host.v4, host.v6].filter(Boolean).join('  ')}</span>
    </span>
  )
}
