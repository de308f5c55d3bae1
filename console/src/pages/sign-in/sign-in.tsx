import { useQueryClient } from '@tanstack/react-query'
import { useNavigate, useSearchParams } from 'react-router'
import * as z from 'zod/mini'
import { useSignIn } from '../../api/hooks'
import { Form, Input } from '../../parts/form'
import { Key } from '../../parts/key'
import { Gate, gateForm, Refused } from './gate'

const user = z.object({ name: z.string().check(z.minLength(1, 'Give your user name.')), password: z.string().check(z.minLength(1, 'Give your password.')) })

export function SignIn() {
  const go = useNavigate()
  const [search] = useSearchParams()
  const signIn = useSignIn()
  const client = useQueryClient()
  const to = search.get('to') ?? '/'
  const enter = () => (client.clear(), void go(to.startsWith('/') && !to.startsWith('//') ? to : '/', { replace: true }))

  return (
    <Gate>
      <Form schema={user} values={{ name: '', password: '' }} onSubmit={(who) => signIn.mutate(who, { onSuccess: enter })} className={gateForm}>
        <Input name="name" label="Name" autoFocus autoComplete="username" />
        <Input name="password" label="Password" type="password" autoComplete="current-password" />
        {signIn.error && <Refused error={signIn.error} />}
        <Key type="submit" weight="main" busy={signIn.isPending}>
          Sign in
        </Key>
        <p className="text-fine text-soft">
          The first user is <span className="data">admin</span>. Its password is chosen by the link that the service printed at its first start.
        </p>
      </Form>
    </Gate>
  )
}
