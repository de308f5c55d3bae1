// A service that is held looks, and writes nothing outside: said on every page, with the way out of it.
import { useHold, useRelease } from '../api/hooks'
import { Key } from './kit'
import { Lamp } from './lamp'
import { count, wall } from './text'

export function Held() {
  const hold = useHold()
  const release = useRelease()
  const h = hold.data
  if (!h?.held || !h.since) return null
  return (
    <div role="alert" className="flex flex-wrap items-center gap-3 bg-settling-wash px-4 py-2.5 sm:px-6">
      <Lamp light="settling" />
      <p className="min-w-0 flex-1 basis-80">
        <strong>Held since {wall(h.since)}:</strong> {h.reason.replace(/\.?$/, '.')} Nothing is written to providers and registrars. {count(h.total, 'placement')}: {h.newer} newer outside, {h.unseen} not looked at
        yet, {h.released} released. Look at a zone under Changes; one zone is released with beacon hold release.
      </p>
      <Key busy={release.isPending} onClick={() => window.confirm('Release everything? What waits is written then.') && release.mutate({ zone: '', account: '', all: true })}>
        Release everything
      </Key>
      {release.error && <p className="basis-full text-wrong">{release.error.message}</p>}
    </div>
  )
}
