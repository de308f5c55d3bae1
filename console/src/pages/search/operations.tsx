// Bulk changes of many zones, and their undoing.
import { useState } from 'react'
import { useOperations, useSyncOperation, useUndo } from '../../api/hooks'
import type { Operation } from '../../api/types'
import { Key, Plate, Shown, Trouble } from '../../parts/kit'
import { wall } from '../../parts/text'

export function Operations() {
  const operations = useOperations()
  return (
    <Plate title="Bulk changes" aside="newest first; each can be undone">
      <Shown query={operations} rows={1}>
        {({ items }) =>
          items.length === 0 ? (
            <p className="text-soft">None yet. Search for something and change all of it.</p>
          ) : (
            <ul className="divide-y divide-line">
              {items.map((o) => (
                <Row key={o.id} operation={o} />
              ))}
            </ul>
          )
        }
      </Shown>
    </Plate>
  )
}

function Row({ operation: o }: { operation: Operation }) {
  const undo = useUndo()
  const sync = useSyncOperation()
  const [sure, setSure] = useState(false)
  return (
    <li className="py-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span className="font-semibold">Operation {o.id}</span>
        <span className="flex-1">
          {o.what} <span className="text-soft">{o.author}, {wall(o.made_at)}</span>
        </span>
        {o.undone ? (
          <span className="text-soft">undone by bulk change {o.undone}</span>
        ) : (
          <>
            <Key weight="quiet" busy={sync.isPending} onClick={() => sync.mutate(o.id)}>
              {sync.data ? 'Syncs asked for' : 'Write it to the providers'}
              <span className="sr-only"> (operation {o.id})</span>
            </Key>
            {sure ? (
              <>
                <Key weight="grave" busy={undo.isPending} onClick={() => undo.mutate(o.id)}>
                  Undo bulk change
                </Key>
                <Key onClick={() => setSure(false)}>Cancel</Key>
              </>
            ) : (
              <Key onClick={() => setSure(true)}>
                Undo…<span className="sr-only"> (operation {o.id})</span>
              </Key>
            )}
          </>
        )}
      </div>
      {(undo.error || sync.error) && (
        <div className="mt-2">
          <Trouble error={(undo.error ?? sync.error)!} />
        </div>
      )}
    </li>
  )
}
