// The statuses of a registration: those that the registrar sets can be lifted here, and set.
import { useState } from 'react'
import { useChangeLock } from '../../../api/hooks'
import { Confirm } from '../../../parts/confirm'
import { Key, Plate, Trouble } from '../../../parts/kit'
import { ActProgress } from './act-progress'

const updateLock = 'client update prohibited'

type Props = { name: string; registrar: string; status?: string[] | null; reasons?: Record<string, string> | null }

export function Locks({ name, registrar, status, reasons }: Props) {
  const change = useChangeLock(name)
  const [lifting, setLifting] = useState('')
  const list = status ?? []
  return (
    <Plate title="Locks" aside={`statuses at ${registrar}`}>
      {list.length === 0 && <p className="text-soft">The registrar returns no status.</p>}
      <ul className="grid gap-2">
        {list.map((s) => (
          <li key={s} className="flex flex-wrap items-center gap-x-3 gap-y-1">
            <span className="data">{s}</span>
            {reasons?.[s] && <span className="text-soft">{reasons[s]}</span>}
            {s.startsWith('client ') && s.endsWith('prohibited') && (
              <Key busy={change.isPending} onClick={() => setLifting(s)}>
                Lift lock
              </Key>
            )}
          </li>
        ))}
      </ul>
      {!list.some((s) => s.endsWith('update prohibited')) && (
        <Key className="mt-3" busy={change.isPending} onClick={() => change.mutate({ status: updateLock, lift: false, reason: '' })}>
          Lock against changes
        </Key>
      )}
      {change.error && <Trouble error={change.error} />}
      {change.data && <ActProgress id={change.data.id} />}
      <Confirm
        title={`Lift "${lifting}" of ${name}?`}
        action="Lift lock"
        open={lifting !== ''}
        onOpen={() => setLifting('')}
        onConfirm={() => {
          change.mutate({ status: lifting, lift: true, reason: '' })
          setLifting('')
        }}
      >
        Until it is set again, users of the registrar account can change what it protects.
      </Confirm>
    </Plate>
  )
}
