// One's own password.
import { useState } from 'react'
import * as z from 'zod/mini'
import { useChangePassword } from '../../api/hooks'
import { Form, FormKeys, Input } from '../../parts/form'
import { Key, Plate, Trouble } from '../../parts/kit'

const form = z
  .object({ current: z.string().check(z.minLength(1, 'Enter your current password.')), new: z.string().check(z.minLength(12, 'Use at least 12 characters.')), again: z.string() })
  .check(z.refine((p) => p.new === p.again, { path: ['again'], error: 'This is another password.' }))

export function Password() {
  const [open, setOpen] = useState(false)
  const change = useChangePassword()
  return (
    <Plate title="Your password">
      {!open && (
        <>
          {change.isSuccess && <p className="mb-2">The password is changed. Your other sessions have ended.</p>}
          <Key onClick={() => setOpen(true)}>Change password</Key>
        </>
      )}
      {open && (
        <Form
          schema={form}
          values={{ current: '', new: '', again: '' }}
          onSubmit={(p) => change.mutate({ current: p.current, new: p.new }, { onSuccess: () => setOpen(false) })}
          className="grid max-w-sm gap-4"
        >
          <Input name="current" label="Current password" type="password" autoComplete="current-password" autoFocus />
          <Input name="new" label="New password" type="password" autoComplete="new-password" explain="At least 12 characters; several words are good" />
          <Input name="again" label="New password, again" type="password" autoComplete="new-password" />
          {change.error && <Trouble error={change.error} />}
          <FormKeys action="Change password" busy={change.isPending} cancel={() => setOpen(false)} />
        </Form>
      )}
    </Plate>
  )
}
