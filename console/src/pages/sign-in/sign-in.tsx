import { useQueryClient } from '@tanstack/react-query'
import { useNavigate, useSearchParams } from 'react-router'
import * as z from 'zod/mini'
import { useSignIn } from '../../api/hooks'
import { Form, Input } from '../../parts/form'
import { Key } from '../../parts/key'
import { Mark } from '../../parts/mark'

const user = z.object({ name: z.string().check(z.minLength(1, 'Give your user name.')), password: z.string().check(z.minLength(1, 'Give your password.')) })

export function SignIn() {
  const go = useNavigate()
  const [search] = useSearchParams()
  const signIn = useSignIn()
  const client = useQueryClient()
  const to = search.get('to') ?? '/'
  const enter = () => (client.clear(), void go(to.startsWith('/') && !to.startsWith('//') ? to : '/', { replace: true }))

  return (
    <div className="grid min-h-dvh bg-deep-900 sm:place-items-center sm:p-6">
      <main className="w-full sm:max-w-md">
        <div className="flex items-center gap-3 bg-deep-900 px-6 py-5 text-deep-50">
          <Mark size={48} />
          <div>
            <h1 className="text-head font-semibold">Agile Beacon</h1>
            <p className="text-deep-200">Where domains point, and who sees it yet</p>
          </div>
        </div>
        <Form schema={user} values={{ name: '', password: '' }} onSubmit={(who) => signIn.mutate(who, { onSuccess: enter })} className="grid content-start gap-4 bg-surface p-6 max-sm:min-h-dvh sm:rounded-plate">
          <Input name="name" label="Name" autoFocus autoComplete="username" />
          <Input name="password" label="Password" type="password" autoComplete="current-password" />
          {signIn.error && (
            <p role="alert" className="rounded-key bg-alarm-wash p-3 text-alarm">
              {signIn.error.message}
            </p>
          )}
          <Key type="submit" weight="main" busy={signIn.isPending}>
            Sign in
          </Key>
          <p className="text-fine text-soft">
            The first user is <span className="data">admin</span>; the password was shown when the service first started.
          </p>
        </Form>
      </main>
    </div>
  )
}
