// The connecting of an account: the credential is tested before anything is saved.
import { useMemo, useState } from 'react'
import * as z from 'zod/mini'
import { useAddAccount, useKinds } from '../../api/hooks'
import { Findings } from '../../parts/findings'
import { Form, Input } from '../../parts/form'
import { Pick } from '../../parts/form-choices'
import { Key, Plate, Trouble } from '../../parts/kit'
import { Credential, credentialFields, noCredential, sentCredential } from './credential'

const roles = [
  { value: 'provider', label: 'DNS provider', explain: 'serves zones' },
  { value: 'registrar', label: 'Registrar', explain: 'holds registrations' },
]

const url = z.string().check(z.trim(), z.regex(/^[a-z]+:\/\/\S+$/, 'Give a URL, such as https://api.provider.example.'))

const account = {
  role: z.enum(['provider', 'registrar']),
  kind: z.string().check(z.trim(), z.minLength(1, 'Choose the interface.')),
  name: z.string().check(z.trim(), z.regex(/^[a-z0-9][a-z0-9-]*$/, 'Use small letters, digits and hyphens, such as heron-main.')),
  address: url,
}

export function Connect({ close }: { close: () => void }) {
  const add = useAddAccount()
  const [role, setRole] = useState('provider')
  const [kind, setKind] = useState('')
  const kinds = useKinds(role)
  const parts = useMemo(() => kinds.data?.items.find((k) => k.name === kind)?.parts ?? [], [kinds.data, kind])
  const hosts = useMemo(() => kinds.data?.items.find((k) => k.name === kind)?.hosts ?? [], [kinds.data, kind])
  const schema = useMemo(
    () => z.object({ ...account, hosts: z.object(Object.fromEntries(hosts.map((h) => [h.name, url]))), ...credentialFields(parts) }),
    [parts, hosts],
  )
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
  const update = kind === 'update'
  return (
    <Plate title="Connect an account" className="mb-5">
      <Form
        schema={schema}
        values={{ role: 'provider', kind: '', name: '', address: '', hosts: {}, ...noCredential(parts) }}
        onSubmit={({ secret, parts: of, ...a }) => add.mutate({ ...a, ...sentCredential(parts, { secret, parts: of }) })}
        className="grid gap-4 sm:grid-cols-2"
      >
        <Pick name="role" label="Kind of account" options={roles} onChosen={setRole} />
        <Pick
          name="kind"
          label="Interface"
          placeholder="choose"
          options={kinds.data?.items.map((k) => ({ value: k.name })) ?? []}
          explain={kinds.data?.items.find((k) => k.name === kind)?.description}
          onChosen={setKind}
        />
        <Input name="name" label="Name of the account here" placeholder="heron-main" />
        <Input name="address" label="URL of the interface" placeholder={update ? 'dns://192.0.2.53' : 'https://api.provider.example'} />
        {hosts.map((h) => (
          <Input key={h.name} name={`hosts.${h.name}`} label={`URL: ${h.name}`} placeholder="https://login.provider.example" explain={h.description || undefined} />
        ))}
        <Credential
          parts={parts}
          label="Credential"
          explain={`${update ? 'A key as ALGORITHM:NAME:SECRET, such as hmac-sha256:beacon-key:… in Base64. ' : ''}It is tested, then sealed; it cannot be read back.`}
        />
        {add.error && (
          <div className="sm:col-span-2">
            <Trouble error={add.error} />
          </div>
        )}
        <div className="flex gap-3 sm:col-span-2">
          <Key type="submit" weight="main" busy={add.isPending}>
            Test and save
          </Key>
          <Key weight="quiet" onClick={close}>
            Cancel
          </Key>
        </div>
      </Form>
    </Plate>
  )
}
