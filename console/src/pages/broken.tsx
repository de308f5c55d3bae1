import { useRouteError } from 'react-router'

/** A page that broke: after an update of the service its parts may be gone, and loading it again helps. It needs no other part. */
export function Broken() {
  const error = useRouteError()
  return (
    <main className="mx-auto max-w-xl p-6">
      <div role="alert" className="plate border-alarm p-4">
        <p className="font-semibold">This page does not work</p>
        <p className="mt-1 wrap-anywhere">{error instanceof Error ? error.message : String(error)}</p>
        <button type="button" className="link mt-3" onClick={() => location.reload()}>
          Load it again
        </button>
      </div>
    </main>
  )
}
