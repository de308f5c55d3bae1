// Accounts at providers and registrars: what each may do, how its zones stand, and the giving of credentials.
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { useAccounts, useRemoveAccount } from '../../api/hooks'
import type { Account } from '../../api/types'
import { Confirm } from '../../parts/confirm'
import { Findings } from '../../parts/findings'
import { Empty, Key, PageHead, Shown, Trouble } from '../../parts/kit'
import { type Light, Tag } from '../../parts/lamp'
import { EmptyMooring } from '../../parts/pictures'
import { count, wall } from '../../parts/text'
import { can } from './can'
import { Connect } from './connect'
import { Rotate } from './rotate'

export function Accounts() {
  const providers = useAccounts('provider')
  const registrars = useAccounts('registrar')
  const [params] = useSearchParams()
  const [adding, setAdding] = useState(params.has('connect'))
  return (
    <>
      <title>Accounts · Agile Beacon</title>
      <PageHead title="Accounts" lead="Accounts at DNS providers and registrars. Credentials are sealed and never shown.">
        {!adding && (
          <Key weight="main" onClick={() => setAdding(true)}>
            Connect an account
          </Key>
        )}
      </PageHead>
      {adding && <Connect close={() => setAdding(false)} />}
      <h2 className="mb-2 text-lead font-semibold">At providers</h2>
      <Shown query={providers}>{({ items }) => <List items={items} role="provider" />}</Shown>
      <h2 className="mt-6 mb-2 text-lead font-semibold">At registrars</h2>
      <Shown query={registrars}>{({ items }) => <List items={items} role="registrar" />}</Shown>
    </>
  )
}

function List({ items, role }: { items: Account[]; role: string }) {
  if (items.length === 0)
    return (
      <Empty picture={<EmptyMooring />} title={`No ${role} is connected yet`}>
        Connect an account: its credential is tested immediately, and its rights are shown.
      </Empty>
    )
  return (
    <ul className="grid gap-3">
      {items.map((a) => (
        <Row key={a.name} account={a} role={role} />
      ))}
    </ul>
  )
}

function stateOf(a: Account): { light: Light; word: string } {
  if (a.troubled > 0) return { light: 'settling', word: `${count(a.troubled, 'zone')} to look at` }
  if (a.zones === 0) return { light: 'none', word: 'no zone yet' }
  return { light: 'settled', word: `${count(a.zones, 'zone')} managed` }
}

function Row({ account: a, role }: { account: Account; role: string }) {
  const [rotating, rotate] = useState(false)
  const [removing, askToRemove] = useState(false)
  const removal = useRemoveAccount()
  const { light, word } = stateOf(a)
  return (
    <li className="plate p-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <h3 className="text-lead font-semibold">{a.name}</h3>
        {role === 'provider' && <Tag light={light}>{word}</Tag>}
        <span className="text-fine text-soft">{a.used_at ? `last used ${wall(a.used_at)}` : 'not used yet'}</span>
        {!rotating && (
          <Key className="ml-auto" onClick={() => rotate(true)} aria-label={`New credential of ${a.name}`}>
            New credential
          </Key>
        )}
        <Key onClick={() => askToRemove(true)} aria-label={`Remove ${a.name}…`}>
          Remove…
        </Key>
      </div>
      <Confirm open={removing} onOpen={askToRemove} title={`Remove account ${a.name}?`} action="Remove account" busy={removal.isPending} onConfirm={() => removal.mutate({ name: a.name, role })}>
        <p>Its credential is deleted here. Nothing changes at the {role}.</p>
        {removal.error && <Trouble error={removal.error} />}
      </Confirm>
      <p className="text-soft wrap-anywhere">
        {a.kind}
        {a.kind_description && `: ${a.kind_description}`} <span className="data">{a.address}</span>
      </p>
      {role === 'provider' && (
        <dl className="mt-2 grid gap-x-4 gap-y-1 sm:grid-cols-[9rem_1fr]">
          <dt className="text-soft">Its credential may</dt>
          <dd>{a.rights.length > 0 ? a.rights.join(', ') : 'the provider does not say'}</dd>
          {a.caps && (
            <>
              <dt className="text-soft">The provider</dt>
              <dd>{can(a.caps).join('; ')}</dd>
            </>
          )}
        </dl>
      )}
      {a.findings.length > 0 && (
        <div className="mt-3">
          <Findings list={a.findings} />
        </div>
      )}
      {rotating && <Rotate name={a.name} role={role} kind={a.kind} close={() => rotate(false)} />}
    </li>
  )
}
