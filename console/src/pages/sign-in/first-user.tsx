// The link of the first start: chooses the password of the first user, and signs in.
import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import * as z from 'zod/mini'
import { useFirstUser, useSignIn } from '../../api/hooks'
import { Form, Input } from '../../parts/form'
import { Key } from '../../parts/key'
import { Gate, gateForm, Refused } from './gate'

const form = z
  .object({ password: z.string().check(z.minLength(12, 'Use at least 12 characters.')), again: z.string() })
  .check(z.refine((p) => p.password === p.again, { path: ['again'], error: 'This is another password.' }))

export function FirstUser() {
  const go = useNavigate()
  const client = useQueryClient()
  const [code] = useState(() => window.location.hash.slice(1)) // behind the #, so that no log has it
  const first = useFirstUser()
  const signIn = useSignIn()
  const enter = () => (client.clear(), void go('/', { replace: true }))
  const error = first.error ?? signIn.error

  return (
    <Gate>
      <Form
        schema={form}
        values={{ password: '', again: '' }}
        onSubmit={({ password }) => first.mutate({ code, password }, { onSuccess: ({ name }) => signIn.mutate({ name, password }, { onSuccess: enter }) })}
        className={gateForm}
      >
        <p>
          You are the first user, <strong>admin</strong>. Choose your password.
        </p>
        <Input name="password" label="Password" type="password" autoFocus autoComplete="new-password" explain="At least 12 characters; several words are good" />
        <Input name="again" label="Password, again" type="password" autoComplete="new-password" />
        {error && <Refused error={error} />}
        <Key type="submit" weight="main" busy={first.isPending || signIn.isPending}>
          Create user admin
        </Key>
      </Form>
    </Gate>
  )
}
