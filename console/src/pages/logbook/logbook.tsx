// Who did what, as it happens.
import { memo, useId, useState } from 'react'
import { useConnection } from '../../api/events'
import { useLogbook } from '../../api/hooks'
import { Check } from '../../parts/check'
import { EntryLine, folded } from '../../parts/entries'
import { Growing } from '../../parts/growing'
import { Empty, PageHead, Shown } from '../../parts/kit'
import { Tag } from '../../parts/lamp'
import { EmptyBook } from '../../parts/pictures'
import { plain } from '../../parts/text'

export function Logbook() {
  const [subject, setSubject] = useState('')
  const [requests, setRequests] = useState(false)
  const book = useLogbook(subject, requests)
  const connection = useConnection()
  const id = useId()
  return (
    <>
      <title>Logbook · Agile Beacon</title>
      <PageHead title="Logbook" lead="Who changed what, newest first. Lines are never changed.">
        <Tag light={connection.state === 'open' ? 'settled' : 'unknown'}>{connection.state === 'open' ? 'live' : 'not live'}</Tag>
      </PageHead>
      <div className="mb-4 flex flex-wrap items-end gap-4">
        <div className="w-full max-w-sm">
          <label className="label" htmlFor={id}>
            About
          </label>
          <input id={id} className="field" defaultValue={subject} placeholder="a domain, a host or an account" onChange={(e) => setSubject(asSubject(e.target.value))} />
        </div>
        <Check className="min-h-10" checked={requests} onChange={setRequests}>
          With every request to providers and registrars
        </Check>
      </div>
      <Shown query={book} rows={6}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty picture={<EmptyBook />} title="No lines">
              {subject ? `No line is about ${plain(subject)}. Write its name in full.` : 'Each change and who made it appears here.'}
            </Empty>
          ) : (
            <Growing items={folded(items)} by={40} older="Older lines" className="plate divide-y divide-line px-4 py-1">
              {(f) => <Folded key={f.entry.id} fold={f} />}
            </Growing>
          )
        }
      </Shown>
    </>
  )
}

/** Domains are written down with their final dot; accounts have no dot at all. */
function asSubject(text: string): string {
  const name = text.trim()
  return name.includes('.') && !name.endsWith('.') ? name + '.' : name
}

/** Only lines that changed are drawn again. */
const Folded = memo(EntryLine, (a, b) => a.fold.entry.id === b.fold.entry.id && a.fold.more.length === b.fold.more.length)
