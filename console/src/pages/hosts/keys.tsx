// The TSIG keys with which clients update a host, or the hosts of a location over one uplink (RFC 2136).
import { useState } from 'react'
import { useAddTSIGKey, useRemoveTSIGKey, useTSIGKeys } from '../../api/hooks'
import { Confirm } from '../../parts/confirm'
import { Key, Plate, Trouble } from '../../parts/kit'
import { wall } from '../../parts/text'

/** of: what keys can be created for here, a host or LOCATION/UPLINK each. */
export function Keys({ of }: { of: string[] }) {
  const keys = useTSIGKeys()
  const add = useAddTSIGKey()
  const list = keys.data?.items.filter((k) => of.includes(k.for)) ?? []
  return (
    <Plate title="Dynamic updates" className="mt-5" aside="nsupdate, DHCP servers and routers that send DNS updates (RFC 2136)">
      {keys.error && <Trouble error={keys.error} />}
      {list.length === 0 ? (
        <p className="text-soft">No TSIG key. A client that sends updates signs them with a key of its own.</p>
      ) : (
        <ul className="divide-y divide-line">
          {list.map((k) => (
            <li key={k.name} className="flex flex-wrap items-center gap-x-5 gap-y-1 py-2.5">
              <span className="data min-w-24 font-semibold">{k.name}</span>
              <span className="text-soft">
                {k.algorithm}
                {of.length > 1 && `, ${k.for}`}
              </span>
              <span className="flex-1 text-fine text-soft">{k.last_used_at ? `last used ${wall(k.last_used_at)} from ${k.last_used_from}` : 'not used yet'}</span>
              <RemoveKey name={k.name} />
            </li>
          ))}
        </ul>
      )}
      {add.data && <Created file={add.data.file} note={add.data.note ?? ''} close={() => add.reset()} />}
      {add.error && <Trouble error={add.error} />}
      <div className="mt-3 flex flex-wrap gap-3">
        {of.map((one) => (
          <Key key={one} onClick={() => add.mutate(one)} disabled={add.isPending}>
            Create TSIG key{of.length > 1 && ` for ${one.slice(one.indexOf('/') + 1)}`}
          </Key>
        ))}
      </div>
    </Plate>
  )
}

/** A key that was just created, which is shown once. */
function Created({ file, note, close }: { file: string; note: string; close: () => void }) {
  const [copied, setCopied] = useState(false)
  return (
    <div role="status" className="mt-3 rounded-key border-2 border-settling p-3">
      <p>
        The key file, as nsupdate -k reads it. It is shown <strong>only once</strong>: copy now.
      </p>
      <pre className="data my-3 rounded-key bg-sunken p-3 whitespace-pre-wrap select-all" tabIndex={0}>
        {file}
      </pre>
      {note && <p className="mb-3">{note}</p>}
      <div className="flex flex-wrap gap-3">
        <Key onClick={() => void navigator.clipboard.writeText(file).then(() => setCopied(true))}>{copied ? 'Copied' : 'Copy the key file'}</Key>
        <Key weight="quiet" onClick={close}>
          Close
        </Key>
      </div>
    </div>
  )
}

function RemoveKey({ name }: { name: string }) {
  const remove = useRemoveTSIGKey()
  const [asking, ask] = useState(false)
  return (
    <>
      <Key weight="quiet" onClick={() => ask(true)}>
        Remove…
      </Key>
      <Confirm open={asking} onOpen={ask} title={`Remove TSIG key ${name}?`} action="Remove TSIG key" busy={remove.isPending} onConfirm={() => remove.mutate(name, { onSuccess: () => ask(false) })}>
        <p>Updates that it signs are refused from then on. No address changes.</p>
        {remove.error && <Trouble error={remove.error} />}
      </Confirm>
    </>
  )
}
