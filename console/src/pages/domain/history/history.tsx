// How what the zone should contain came to be: its revisions, what differs between two, and the history of one name.
import { useDeferredValue, useId, useState } from 'react'
import { useComparison, useNameHistory, useRevisions, useZone } from '../../../api/hooks'
import { Plate, Shown } from '../../../parts/kit'
import { Choice } from '../../../parts/select'
import { AttributeLines } from '../../../parts/attribute-lines'
import { RecordLines } from '../../../parts/record-lines'
import { plain, wall } from '../../../parts/text'
import { useName } from '../domain'
import { Revisions } from './revisions'

export function History() {
  const name = useName()
  const zone = useZone(name)
  return (
    <div className="grid gap-5">
      <Revisions name={name} managed={(zone.data?.managed_by ?? '') !== ''} />
      <OfName zone={name} />
      <Compare name={name} />
    </div>
  )
}

function OfName({ zone }: { zone: string }) {
  const id = useId()
  const [text, type] = useState('')
  const typed = useDeferredValue(text.trim())
  const of = typed === '' ? '' : typed === '@' ? zone : typed.endsWith('.') ? plain(typed) : typed === zone || typed.endsWith('.' + zone) ? typed : `${typed}.${zone}`
  return (
    <Plate title="One name" aside="which revisions changed it">
      <label className="label" htmlFor={id}>
        Name
      </label>
      <input id={id} value={text} onChange={(e) => type(e.target.value)} className="field data max-w-sm" placeholder="www" spellCheck={false} autoCapitalize="none" />
      {of !== '' && <Changes zone={zone} of={of} />}
    </Plate>
  )
}

function Changes({ zone, of }: { zone: string; of: string }) {
  const history = useNameHistory(zone, of)
  return (
    <div className="mt-3">
      <Shown query={history} rows={1}>
        {({ items }) =>
          items.length === 0 ? (
            <p className="text-soft">No revision says anything of {of}.</p>
          ) : (
            <ul className="grid gap-3">
              {items.map((c) => (
                <li key={c.revision.number}>
                  <p className="mb-1">
                    <span className="font-semibold">Revision {c.revision.number}</span>{' '}
                    <span className="text-soft">
                      {c.revision.author}, {wall(c.revision.created_at)}
                      {c.revision.reason && `: ${c.revision.reason}`}
                    </span>
                  </p>
                  <RecordLines zone={zone} added={c.added} removed={c.removed} />
                  <AttributeLines list={c.attributes} />
                </li>
              ))}
            </ul>
          )
        }
      </Shown>
    </div>
  )
}

function Compare({ name }: { name: string }) {
  const revisions = useRevisions(name)
  const numbers = revisions.data?.items.map((r) => r.number) ?? []
  if (numbers.length < 2) return null
  return <Two key={numbers[0]} name={name} numbers={numbers} />
}

function Two({ name, numbers }: { name: string; numbers: number[] }) {
  const id = useId()
  const [from, setFrom] = useState(numbers.at(-1)!)
  const [to, setTo] = useState(numbers[0]!)
  const comparison = useComparison(name, from, to)
  const pick = (key: string, label: string, value: number, set: (n: number) => void) => (
    <div>
      <label className="label" htmlFor={id + key}>
        {label}
      </label>
      <Choice id={id + key} value={String(value)} onChange={(v) => set(Number(v))} options={numbers.map((n) => ({ value: String(n), label: `revision ${n}` }))} />
    </div>
  )
  return (
    <Plate title="Two revisions" aside="what differs between them">
      <div className="mb-3 grid max-w-md grid-cols-2 gap-3">
        {pick('f', 'From', from, setFrom)}
        {pick('t', 'To', to, setTo)}
      </div>
      <Shown query={comparison} rows={1}>
        {(c) =>
          c.added.length + c.removed.length + c.attributes.length === 0 ? (
            <p className="text-soft">They are the same.</p>
          ) : (
            <>
              <RecordLines zone={name} added={c.added} removed={c.removed} />
              <AttributeLines list={c.attributes} />
            </>
          )
        }
      </Shown>
    </Plate>
  )
}
