// Everything behind the sign-in: finds the signed-in user, and follows what happens while a user is signed in.
import { useQueryClient } from '@tanstack/react-query'
import { useEffect } from 'react'
import { Navigate, useLocation } from 'react-router'
import { followEvents } from '../api/events'
import { useMe } from '../api/hooks'
import { Trouble } from '../parts/kit'
import { Shell } from '../parts/shell'
import { Toasts } from '../parts/toast'

export function Signed() {
  const me = useMe()
  const client = useQueryClient()
  const { pathname, search } = useLocation()
  const signedOut = me.data?.name === ''
  const there = me.data !== undefined && !signedOut
  useEffect(() => (there ? followEvents(client) : undefined), [there, client])
  if (signedOut) return <Navigate to={`/sign-in?to=${encodeURIComponent(pathname + search)}`} replace />
  if (me.data)
    return (
      <Toasts>
        <Shell />
      </Toasts>
    )
  if (!me.error) return null
  return (
    <main className="mx-auto max-w-xl p-6">
      <Trouble error={me.error} again={() => void me.refetch()} />
    </main>
  )
}
