import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { useSignIn } from '../../api/hooks'
import { Key } from '../../parts/kit'
import { Mark } from '../../parts/mark'

export function SignIn() {
  const go = useNavigate()
  const [search] = useSearchParams()
  const signIn = useSignIn()
  const client = useQueryClient()
  const name = useRef<HTMLInputElement>(null)
  useEffect(() => name.current?.focus(), [])

  function submit(event: React.FormEvent<HTMLFormElement>) {
    event.preventDefault()
    const form = new FormData(event.currentTarget)
    const to = search.get('to') ?? '/'
    signIn.mutate(
      { name: String(form.get('name')), password: String(form.get('password')) },
      { onSuccess: () => (client.clear(), void go(to.startsWith('/') && !to.startsWith('//') ? to : '/', { replace: true })) },
    )
  }

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
        <form onSubmit={submit} className="grid content-start gap-4 bg-surface p-6 max-sm:min-h-dvh sm:rounded-plate">
          <div>
            <label className="label" htmlFor="name">
              Name
            </label>
            <input ref={name} id="name" name="name" required autoComplete="username" autoCapitalize="none" className="field" />
          </div>
          <div>
            <label className="label" htmlFor="password">
              Password
            </label>
            <input id="password" name="password" type="password" required autoComplete="current-password" className="field" />
          </div>
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
        </form>
      </main>
    </div>
  )
}
