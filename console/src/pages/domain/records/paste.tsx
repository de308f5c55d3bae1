// Records pasted from anywhere: each line says what it was taken for, before anything goes into the draft.
import { useDeferredValue, useId } from 'react'
import { useRecognition } from '../../../api/hooks'
import type { PastedRow } from '../../../api/types'
import { Key, Plate, Shown } from '../../../parts/kit'
import { Tag } from '../../../parts/lamp'
import { count, relative } from '../../../parts/text'
import type { Change } from './shared'

type PasteProps = { zone: string; text: string; type: (text: string) => void; change: Change; busy: boolean; close: () => void }

/** How many lines are drawn; all of them are taken. */
const most = 200

export function Paste({ zone, text, type, change, busy, close }: PasteProps) {
  const id = useId()
  const settled = useDeferredValue(text)
  const rows = useRecognition(zone, settled, 3600)
  return (
    <Plate title="Paste records" aside="lines of a zone file, or a table copied from a page">
      <label className="sr-only" htmlFor={id}>
        Pasted text
      </label>
      <textarea
        id={id}
        autoFocus
        value={text}
        onChange={(e) => type(e.target.value)}
        wrap="off"
        spellCheck={false}
        rows={5}
        className="field data overflow-auto whitespace-pre"
        placeholder={'www  300  A  192.0.2.40\nMX   @    mx1.post.example   10'}
      />
      {text.trim() !== '' && (
        <Shown query={rows} rows={1}>
          {({ items }) => <Recognised zone={zone} rows={items} change={change} busy={busy} close={close} />}
        </Shown>
      )}
      {text.trim() === '' && (
        <Key className="mt-3" onClick={close}>
          Cancel
        </Key>
      )}
    </Plate>
  )
}

function Recognised({ zone, rows, change, busy, close }: { zone: string; rows: PastedRow[]; change: Change; busy: boolean; close: () => void }) {
  const records = rows.filter((r) => r.left_out === '').flatMap((r) => r.records)
  const problems = rows.filter((r) => r.problem !== '').length
  return (
    <div className="mt-3 grid gap-3">
      <ul className="overflow-hidden rounded-key border border-line">
        {rows.slice(0, most).map((row, i) => (
          <li key={i} className={`border-b border-line px-3 py-1.5 last:border-0 ${row.problem ? 'bg-alarm-wash' : row.left_out ? 'bg-sunken' : ''}`}>
            {row.records.map((r, n) => (
              <p key={n} className="data">
                <span className="font-semibold">{relative(r.name, zone)}</span> {r.ttl} {r.type} {r.data}
              </p>
            ))}
            {row.problem && (
              <>
                <p className="data">{row.text}</p>
                <p>
                  <Tag light="alarm">line {row.line}</Tag> {row.problem}
                </p>
              </>
            )}
            {[...row.notes, row.left_out].filter(Boolean).map((note) => (
              <p key={note} className="text-fine text-soft">
                {row.left_out === note ? 'Left out. ' : ''}
                {note}
              </p>
            ))}
          </li>
        ))}
      </ul>
      {rows.length > most && <p className="text-soft">… and {rows.length - most} more lines.</p>}
      <div className="flex flex-wrap items-center gap-2">
        <Key weight="main" busy={busy} disabled={records.length === 0} onClick={() => change({ records: records.map((after) => ({ before: null, after })) }, close)}>
          Add {count(records.length, 'record')} to the draft
        </Key>
        <Key onClick={close}>Cancel</Key>
        {problems > 0 && <span className="text-soft">{count(problems, 'line')} could not be read and will be left out.</span>}
      </div>
    </div>
  )
}
