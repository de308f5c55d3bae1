// Tokens of scripts, machines and dynamic hosts: what each may do, when it was used, and what speaks against it.
import { useState } from 'react'
import { useRenewToken, useRevokeToken, useTokens } from '../../api/hooks'
import type { Token } from '../../api/types'
import { Confirm } from '../../parts/confirm'
import { grantText } from '../../parts/grants'
import { Key, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { plain, wall } from '../../parts/text'
import { Add } from './add'
import { Text } from './text'

/** How long the text until now stays valid when a token is renewed here, in seconds. */
const overlap = 24 * 3600

export function Tokens() {
  const tokens = useTokens()
  const renew = useRenewToken()
  const revoke = useRevokeToken()
  const [adding, setAdding] = useState(false)
  const [asked, ask] = useState<{ token: Token; what: 'renew' | 'revoke' }>()
  const name = asked ? plain(asked.token.name) : ''
  return (
    <>
      <title>Tokens · Agile Beacon</title>
      <PageHead title="Tokens" lead="A script or a machine has a token of its own, which may do only what it needs.">
        {!adding && (
          <Key weight="main" onClick={() => setAdding(true)}>
            Add token
          </Key>
        )}
      </PageHead>
      {adding && <Add close={() => setAdding(false)} />}
      {renew.data && <Text made={renew.data} close={() => renew.reset()} />}
      <Shown query={tokens}>
        {({ items }) => (
          <Plate title="Tokens" aside={items.length === 1 ? '1 token' : `${items.length} tokens`}>
            {items.length === 0 && <p className="text-soft">There is none. Add one for each script and machine.</p>}
            <ul>
              {items.map((t) => (
                <li key={t.kind + t.name} className="border-b border-line py-2 last:border-0">
                  <One token={t} renew={() => ask({ token: t, what: 'renew' })} revoke={() => ask({ token: t, what: 'revoke' })} />
                </li>
              ))}
            </ul>
            {(renew.error ?? revoke.error) && <Trouble error={(renew.error ?? revoke.error)!} />}
          </Plate>
        )}
      </Shown>
      <Confirm
        title={asked?.what === 'renew' ? `Renew the token ${name}?` : `Revoke the token ${name}?`}
        action={asked?.what === 'renew' ? 'Renew token' : 'Revoke token'}
        open={asked !== undefined}
        onOpen={() => ask(undefined)}
        onConfirm={() => {
          if (asked?.what === 'renew') renew.mutate({ name, overlap })
          else revoke.mutate(name)
          ask(undefined)
        }}
      >
        {asked?.what === 'renew' ? 'It gets another text, which is shown once. The text until now stays valid for 24 hours.' : 'The next request with it is refused, and its streams end within a second.'}
      </Confirm>
    </>
  )
}

function One({ token: t, renew, revoke }: { token: Token; renew: () => void; revoke: () => void }) {
  const name = plain(t.name)
  return (
    <div className="flex flex-wrap items-start gap-x-4 gap-y-2">
      <div className="min-w-60 flex-1">
        <span className="font-semibold wrap-anywhere">{name}</span> <span className="text-soft">{t.kind === 'host' ? 'dynamic host' : `made by ${t.maker}`}</span>{' '}
        <span className="data text-fine text-soft">{t.begins}…</span>
        <p className="data text-fine wrap-anywhere">{t.grants.map(grantText).join('; ')}</p>
        <p className="text-fine text-soft">
          {t.last_used_at ? (
            <>
              used {wall(t.last_used_at)} from <span className="data">{t.last_used_from}</span>
            </>
          ) : (
            'never used'
          )}
          {t.networks.length > 0 && `; only from ${t.networks.join(', ')}`}
          {t.expires ? `; expires ${wall(t.expires)}` : '; no end'}
          {t.previous_until && `; the text before is valid until ${wall(t.previous_until)}`}
        </p>
        {t.doubts.map((doubt) => (
          <p key={doubt} className="mt-1 rounded-key bg-settling-wash px-2 py-1 text-fine">
            {doubt}
          </p>
        ))}
      </div>
      <Key aria-label={`Renew token ${name}`} onClick={renew}>
        Renew…
      </Key>
      {t.kind !== 'host' && (
        <Key aria-label={`Revoke token ${name}`} onClick={revoke}>
          Revoke…
        </Key>
      )}
    </div>
  )
}
