// One's own sessions: each sign-in that is valid, in a browser or at a command line.
import { useEndSession, useSessions } from '../../api/hooks'
import { Key, Plate, Shown, Trouble } from '../../parts/kit'
import { wall } from '../../parts/text'

export function Sessions() {
  const sessions = useSessions()
  const end = useEndSession()
  return (
    <Shown query={sessions}>
      {({ items }) => (
        <Plate title="Your sessions" aside="sign-ins that are valid">
          <ul>
            {items.map((s) => (
              <li key={s.id} className="flex min-h-12 flex-wrap items-center gap-x-4 border-b border-line py-1 last:border-0">
                <span className="flex-1">
                  since <span className="data">{wall(s.created_at)}</span>, until <span className="data">{wall(s.expires_at)}</span>
                </span>
                {s.current ? (
                  <span className="text-soft">this one</span>
                ) : (
                  <Key busy={end.isPending} aria-label={`End session since ${wall(s.created_at)}`} onClick={() => end.mutate(s.id)}>
                    End session
                  </Key>
                )}
              </li>
            ))}
          </ul>
          {end.error && <Trouble error={end.error} />}
        </Plate>
      )}
    </Shown>
  )
}
