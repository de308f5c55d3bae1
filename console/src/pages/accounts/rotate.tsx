// A new credential for an account: tested first, then saved, without an interruption.
import { useMemo } from 'react'
import * as z from 'zod/mini'
import { useKinds, useRotate } from '../../api/hooks'
import { Findings } from '../../parts/findings'
import { Form, FormKeys } from '../../parts/form'
import { Key, Notice, Trouble } from '../../parts/kit'
import { Credential, credentialFields, noCredential, sentCredential } from './credential'

export function Rotate({ name, role, kind, close }: { name: string; role: string; kind: string; close: () => void }) {
  const rotate = useRotate()
  const kinds = useKinds(role)
  const parts = useMemo(() => kinds.data?.items.find((k) => k.name === kind)?.parts ?? [], [kinds.data, kind])
  const schema = useMemo(() => z.object(credentialFields(parts)), [parts])
  if (rotate.data)
    return (
      <div className="mt-3 grid gap-3">
        <Notice light="settled" title={`${name} has its new credential`}>
          Revoke the old one at the provider now.
        </Notice>
        {rotate.data.findings.length > 0 && <Findings list={rotate.data.findings} />}
        <div>
          <Key onClick={close}>Close</Key>
        </div>
      </div>
    )
  return (
    <Form
      key={parts.length}
      schema={schema}
      values={noCredential(parts)}
      onSubmit={(c) => rotate.mutate({ name, role, ...sentCredential(parts, c) })}
      className="mt-3 grid gap-3 rounded-key bg-sunken p-3"
    >
      <Credential parts={parts} label={`New credential of ${name}`} autoFocus explain="It is tested, then sealed; it cannot be read back." />
      {rotate.error && <Trouble error={rotate.error} />}
      <FormKeys action="Test and save" busy={rotate.isPending} cancel={close} />
    </Form>
  )
}
