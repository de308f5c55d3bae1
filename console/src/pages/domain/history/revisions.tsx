// What the zone should contain, revision by revision: what each changed, and the way back to it.
import { useState } from 'react'
import { Link } from 'react-router'
import { useComparison, useRestore, useRevisions } from '../../../api/hooks'
import type { Revision } from '../../../api/types'
import { Key, Notice, Plate, Shown, Trouble } from '../../../parts/kit'
import { AttributeLines } from '../../../parts/attribute-lines'
import { RecordLines } from '../../../parts/record-lines'
import { count, wall } from '../../../parts/text'

export function Revisions({ name, managed }: { name: string; managed: boolean }) {
  const revisions = useRevisions(name)
  const restore = useRestore(name)
  return (
    <Plate title="Revisions" aside="accepted states, newest first">
      {restore.data && (
        <div className="mb-3">
          <Notice light="settled" title={`Saved as revision ${restore.data.number}.`}>
            Nothing is written to a provider yet:{' '}
            <Link className="link" to={`/domains/${encodeURIComponent(name)}/changes`}>
              review and sync the changes
            </Link>
            .
          </Notice>
        </div>
      )}
      {restore.error && (
        <div className="mb-3">
          <Trouble error={restore.error} />
        </div>
      )}
      <Shown query={revisions} rows={1}>
        {({ items }) =>
          items.length === 0 ? (
            <p className="text-soft">None yet.</p>
          ) : (
            <ul className="divide-y divide-line">
              {items.map((r, i) => (
                <Row key={r.number} name={name} revision={r} newest={i === 0 || managed} restore={() => restore.mutate(r.number)} busy={restore.isPending} />
              ))}
            </ul>
          )
        }
      </Shown>
    </Plate>
  )
}

function Row({ name, revision: r, newest, restore, busy }: { name: string; revision: Revision; newest: boolean; restore: () => void; busy: boolean }) {
  const [open, setOpen] = useState(false)
  return (
    <li className="py-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span className="font-semibold">Revision {r.number}</span>
        <span>{count(r.records, 'record')}</span>
        <span className="min-w-0 flex-1 text-soft max-sm:basis-full">
          {r.author}, from <span className="data">{r.source}</span>, {wall(r.created_at)}
          {r.reason && <>: {r.reason}</>}
        </span>
        <Key weight="quiet" aria-expanded={open} onClick={() => setOpen(!open)}>
          Changes<span className="sr-only"> in revision {r.number}</span>
        </Key>
        {!newest && (
          <Key busy={busy} onClick={restore}>
            Restore it<span className="sr-only"> (revision {r.number})</span>
          </Key>
        )}
      </div>
      {open && <Changed name={name} number={r.number} />}
    </li>
  )
}

function Changed({ name, number }: { name: string; number: number }) {
  const comparison = useComparison(name, number - 1, number)
  return (
    <div className="mt-2">
      <Shown query={comparison} rows={1}>
        {(c) =>
          c.added.length + c.removed.length + c.attributes.length === 0 ? (
            <p className="text-soft">No record.</p>
          ) : (
            <>
              <RecordLines zone={name} added={c.added} removed={c.removed} />
              <AttributeLines list={c.attributes} />
            </>
          )
        }
      </Shown>
    </div>
  )
}
