// The connecting of an account: the credential is tried before anything is kept.
import { useId, useState } from 'react'
import { useAddAccount, useKinds } from '../../api/hooks'
import { Check } from '../../parts/check'
import { Findings } from '../../parts/findings'
import { Key, Plate, Trouble } from '../../parts/kit'

export function Connect({ close }: { close: () => void }) {
  const kinds = useKinds()
  const add = useAddAccount()
  const id = useId()
  const [role, setRole] = useState('provider')
  const [kind, setKind] = useState('')
  const chosen = kinds.data?.items.find((k) => k.name === kind)
  function submit(event: React.FormEvent<HTMLFormElement>) {
    event.preventDefault()
    const form = new FormData(event.currentTarget)
    const text = (name: string) => String(form.get(name) ?? '').trim()
    add.mutate({ name: text('name'), role, kind: text('kind'), address: text('address'), secret: text('secret'), private: form.has('private') })
  }
  if (add.data)
    return (
      <Plate title={`${add.data.name} is connected`} className="mb-5 border-2 border-settled">
        <p>
          Its credential works
          {add.data.seen >= 0 && ` and sees ${add.data.seen} ${role === 'provider' ? 'zones' : 'domains'}`}.
          {add.data.rights.length > 0 && ` It may: ${add.data.rights.join(', ')}.`}
        </p>
        {add.data.findings.length > 0 && (
          <div className="mt-3">
            <Findings list={add.data.findings} />
          </div>
        )}
        <Key className="mt-3" onClick={close}>
          Close
        </Key>
      </Plate>
    )
  return (
    <Plate title="Connect an account" className="mb-5">
      <form onSubmit={submit} className="grid gap-4 sm:grid-cols-2">
        <div>
          <label className="label" htmlFor={id + 'role'}>
            Whose
          </label>
          <select id={id + 'role'} className="field" value={role} onChange={(e) => setRole(e.target.value)}>
            <option value="provider">a provider’s, who serves zones</option>
            <option value="registrar">a registrar’s, where domains are held</option>
          </select>
        </div>
        <div>
          <label className="label" htmlFor={id + 'kind'}>
            Interface
          </label>
          {role === 'provider' ? (
            <select id={id + 'kind'} name="kind" required className="field" value={kind} onChange={(e) => setKind(e.target.value)}>
              <option value="">choose</option>
              {kinds.data?.items.map((k) => (
                <option key={k.name} value={k.name}>
                  {k.name}
                </option>
              ))}
            </select>
          ) : (
            <input id={id + 'kind'} name="kind" required className="field" defaultValue="gannet" autoCapitalize="none" spellCheck={false} />
          )}
          {role === 'provider' && chosen && <p className="mt-1 text-fine text-soft">{chosen.description}</p>}
        </div>
        <div>
          <label className="label" htmlFor={id + 'name'}>
            Name here
          </label>
          <input id={id + 'name'} name="name" required className="field" placeholder="heron-main" autoCapitalize="none" spellCheck={false} />
        </div>
        <div>
          <label className="label" htmlFor={id + 'address'}>
            Address of the interface
          </label>
          <input
            id={id + 'address'}
            name="address"
            required
            className="field"
            placeholder={kind === 'update' ? 'dns://192.0.2.53' : 'https://api.provider.example'}
            autoCapitalize="none"
            spellCheck={false}
          />
        </div>
        <div className="sm:col-span-2">
          <label className="label" htmlFor={id + 'secret'}>
            Credential
          </label>
          <input id={id + 'secret'} name="secret" type="password" required autoComplete="off" className="field" />
          <p className="mt-1 text-fine text-soft">
            {kind === 'update' ? 'A key as ALGORITHM:NAME:SECRET, such as hmac-sha256:beacon-key:… in Base64. ' : ''}It is tested, then sealed; it cannot be read back.
          </p>
        </div>
        <div className="sm:col-span-2">
          <Check name="private">Its address may be one of an inner network</Check>
        </div>
        {add.error && (
          <div className="sm:col-span-2">
            <Trouble error={add.error} />
          </div>
        )}
        <div className="flex gap-3 sm:col-span-2">
          <Key type="submit" weight="main" busy={add.isPending}>
            Try and keep it
          </Key>
          <Key weight="quiet" onClick={close}>
            Cancel
          </Key>
        </div>
      </form>
    </Plate>
  )
}
