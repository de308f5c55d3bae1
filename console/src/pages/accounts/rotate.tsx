// A new credential for an account: tested first, then saved, without an interruption.
import * as z from 'zod/mini'
import { useRotate } from '../../api/hooks'
import { Findings } from '../../parts/findings'
import { Form, Input } from '../../parts/form'
import { Key, Notice, Trouble } from '../../parts/kit'

const credential = z.object({ secret: z.string().check(z.trim(), z.minLength(1, 'Give the credential.')) })

export function Rotate({ name, role, close }: { name: string; role: string; close: () => void }) {
  const rotate = useRotate()
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
    <Form schema={credential} values={{ secret: '' }} onSubmit={({ secret }) => rotate.mutate({ name, role, secret })} className="mt-3 grid gap-3 rounded-key bg-sunken p-3">
      <Input name="secret" label={`New credential of ${name}`} type="password" autoFocus autoComplete="off" className="max-w-lg" />
      {rotate.error && <Trouble error={rotate.error} />}
      <div className="flex gap-3">
        <Key type="submit" weight="main" busy={rotate.isPending}>
          Test and save
        </Key>
        <Key weight="quiet" onClick={close}>
          Cancel
        </Key>
      </div>
    </Form>
  )
}
