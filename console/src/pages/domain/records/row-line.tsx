// One record, what is found about it, and the way to change it.
import { memo } from 'react'
import { Link } from 'react-router'
import { Lamp, type Light } from '../../../parts/lamp'
import { plain } from '../../../parts/text'
import { Attributes } from './attributes'
import { Editor } from './editor'
import { Offers } from './offers'
import { gravest, type Row } from './merge'
import { columns, type Change } from './shared'

type RowProps = { row: Row; zone: string; at: number; buttonId: string; follows: boolean; open: boolean; toggle: (row: string, from: string, isOpen: boolean) => void; change?: Change; busy: boolean }

const lights: Record<string, Light> = { error: 'alarm', warning: 'settling', notice: 'none' }
const tones = { same: '', added: 'bg-settled-wash', removed: 'bg-alarm-wash' }

/** Drawn again only where something about it has changed: scrolling draws the rows that come. */
export const RowLine = memo(function RowLine({ row, zone, at, buttonId, follows, open, toggle, change, busy }: RowProps) {
  const { record: r, state, findings } = row
  const worst = gravest(findings)
  const label = state === 'removed' ? 'Undo' : open ? 'Close' : worst ? 'Look' : 'Edit'
  const close = () => toggle(row.id, buttonId, open)
  const act = state === 'removed' ? () => change?.({ records: [{ before: null, after: r }] }) : close
  return (
    <>
      <div
        role="row"
        aria-rowindex={at + 2}
        className={`grid min-h-9 items-start gap-x-3 border-b border-line px-1 py-1 max-sm:grid-cols-[1fr_auto_auto] ${columns} ${tones[state]}`}
      >
        <span role="rowheader" className={`data py-0.5 font-semibold ${state === 'removed' ? 'line-through' : ''}`}>
          {row.name}
          {state !== 'same' && <span className="sr-only"> ({state} in the draft)</span>}
        </span>
        <span role="cell" className="data py-0.5">
          {r.type}
        </span>
        <span role="cell" className="data py-0.5 text-right">
          {r.ttl}
        </span>
        <span role="cell" className={`data py-0.5 max-sm:col-span-2 ${state === 'removed' ? 'line-through' : ''}`}>
          {r.data}
          {row.kit && <span className="ml-2 font-sans text-soft">kit {row.kit}</span>}
          {follows && (
            <Link className="link ml-2 font-sans" to={`/hosts/${plain(r.name)}`}>
              follows a reported address
            </Link>
          )}
        </span>
        <span role="cell" className="flex items-center justify-end gap-1.5">
          {worst && (
            <>
              <Lamp light={lights[worst] ?? 'none'} size={16} />
              <span className="sr-only">{worst}: {findings.map((f) => f.code).join(', ')}</span>
            </>
          )}
          {(change || worst) && !follows && (
            <button
              type="button"
              id={buttonId}
              aria-label={`${label} ${row.name} ${r.type} ${r.data}`}
              data-row={at}
              aria-expanded={state === 'removed' ? undefined : open}
              disabled={busy && state === 'removed'}
              onClick={act}
              className="min-h-7 min-w-12 rounded-key px-2 text-fine font-semibold text-accent hover:bg-sunken"
            >
              {label}
            </button>
          )}
        </span>
      </div>
      {open && (
        <div role="row" className="border-b border-line-strong bg-sunken p-3">
          <div role="cell" aria-colspan={5}>
            {findings.length > 0 && <Offers findings={findings} zone={zone} change={change} busy={busy} />}
            {change && <Editor zone={zone} record={r} change={change} busy={busy} close={close} />}
            {change && <Attributes zone={zone} record={r} change={change} />}
          </div>
        </div>
      )}
    </>
  )
})
