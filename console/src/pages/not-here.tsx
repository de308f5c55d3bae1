import { Link, useRouteError } from 'react-router'
import { PageHead, Trouble } from '../parts/kit'

export function NotHere() {
  return (
    <>
      <PageHead title="There is no such page" lead="The address may be mistyped, or come from an older version." />
      <Link className="link" to="/">
        To the domains
      </Link>
    </>
  )
}

/** A page that broke: after an update of the service its parts may be gone, and loading it anew helps. */
export function Broken() {
  const error = useRouteError()
  return (
    <main className="mx-auto max-w-xl p-6">
      <Trouble error={error instanceof Error ? error : new Error(String(error))} again={() => location.reload()} />
    </main>
  )
}
