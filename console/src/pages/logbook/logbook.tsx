// Who did what, as it happens.
import { memo, useId, useState } from 'react'
import { Link } from 'react-router'
import { useConnection } from '../../api/events'
import { useLogbook } from '../../api/hooks'
import type { Entry } from '../../api/types'
import { Check } from '../../parts/check'
import { Growing } from '../../parts/growing'
import { Empty, PageHead, Shown } from '../../parts/kit'
import { Tag } from '../../parts/lamp'
import { EmptyBook } from '../../parts/pictures'
import { plain, wall } from '../../parts/text'

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
            Only about
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
            <Empty picture={<EmptyBook />} title="Nothing is written here">
              {subject ? `Nothing happened to ${plain(subject)}. Write its name in full.` : 'Whatever is done will be written down here.'}
            </Empty>
          ) : (
            <Growing items={items} by={40} older="Older lines" className="plate divide-y divide-line">
              {(e) => <Line key={e.id} entry={e} />}
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

const Line = memo(function Line({ entry: e }: { entry: Entry }) {
  const isDomain = e.subject.endsWith('.')
  const to = e.action.startsWith('host.') ? '/hosts/' : '/domains/'
  return (
    <li className="grid gap-x-4 px-4 py-2 sm:grid-cols-[10rem_11rem_1fr]">
      <time dateTime={e.at} className="data text-soft">
        {wall(e.at)}
      </time>
      <span className="font-semibold">{e.action}</span>
      <div className="min-w-0">
        <p className="wrap-anywhere">
          {isDomain ? (
            <Link className="link" to={to + plain(e.subject)}>
              {plain(e.subject)}
            </Link>
          ) : (
            e.subject
          )}{' '}
          <span className="text-soft">by {e.actor === 'host ' + e.subject ? 'itself' : plain(e.actor)}</span>
        </p>
        {e.detail && <p className="text-fine text-soft wrap-anywhere">{e.detail}</p>}
      </div>
    </li>
  )
})
