// The draft, always in sight while there is one: what it changes, who changed it, and what becomes of it.
import { useId, useState } from 'react'
import { type useAcceptDraft, useDiscardDraft, useMe } from '../../../api/hooks'
import type { Draft } from '../../../api/types'
import { AttributeLines } from '../../../parts/attribute-lines'
import { Findings } from '../../../parts/findings'
import { Key, Trouble } from '../../../parts/kit'
import { Tag } from '../../../parts/lamp'
import { RecordLines } from '../../../parts/record-lines'
import { count, plain, relative } from '../../../parts/text'
import type { Change } from './shared'

export function DraftBar({ draft, change, accept }: { draft: Draft; change: Change; accept: ReturnType<typeof useAcceptDraft> }) {
  const zone = plain(draft.zone)
  const drop = useDiscardDraft(zone)
  const me = useMe()
  const id = useId()
  const [open, setOpen] = useState(false)
  const [sure, setSure] = useState(false)
  const [reason, setReason] = useState('')
  const errors = draft.findings.filter((f) => f.severity === 'error').length
  const attributes = draft.edits.reduce((n, e) => n + e.attributes.length, 0)
  const others = [...new Set(draft.edits.map((e) => e.author))].filter((a) => a !== me.data?.name)
  return (
    <section aria-label="Draft" className="plate sticky bottom-2 z-10 grid gap-3 border-2 border-settling p-3">
      {open && (
        <div className="grid max-h-[50vh] gap-3 overflow-y-auto" tabIndex={0} role="region" aria-label="Change list">
          {draft.added.length + draft.removed.length > 0 && <RecordLines zone={zone} added={draft.added} removed={draft.removed} />}
          {draft.overrun.length > 0 && <Findings list={draft.overrun} />}
          {errors > 0 && <Findings list={draft.findings.filter((f) => f.severity === 'error')} />}
          <ul className="grid gap-1">
            {draft.edits.map((e) => {
              const set = e.after.data.length > 0 ? e.after : e.before
              return (
                <li key={set.name + set.type} className="flex flex-wrap items-center gap-2 text-fine">
                  <span className="data font-semibold">
                    {relative(set.name, zone)} {set.type}
                  </span>
                  <AttributeLines list={e.attributes} bare />
                  <span className="text-soft">by {e.author}</span>
                  <button type="button" className="link" onClick={() => change({ undo: [{ name: set.name, type: set.type }] })}>
                    discard this edit
                    <span className="sr-only">
                      {' '}
                      of {relative(set.name, zone)} {set.type}
                    </span>
                  </button>
                </li>
              )
            })}
          </ul>
          <div>
            <label className="label" htmlFor={id}>
              Reason, for the logbook
            </label>
            <input id={id} value={reason} onChange={(e) => setReason(e.target.value)} className="field" placeholder="the web host moved" />
          </div>
        </div>
      )}
      {(accept.error || drop.error) && <Trouble error={(accept.error ?? drop.error)!} />}
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <Tag light="settling">Draft</Tag>
        <span className="flex-1">
          {draft.added.length} added, {draft.removed.length} removed
          {attributes > 0 && `, ${count(attributes, 'attribute')}`}
          {others.length > 0 && <span className="font-semibold">, also by {others.join(', ')}</span>}
          {errors > 0 && <span className="font-semibold text-alarm">, {count(errors, 'error')}</span>}
          {draft.overrun.length > 0 && <span className="font-semibold text-alarm">, {count(draft.overrun.length, 'set')} changed since then</span>}
        </span>
        <Key aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? 'Hide the change list' : 'Show the change list'}
        </Key>
        {sure ? (
          <>
            <Key weight="grave" busy={drop.isPending} onClick={() => drop.mutate(draft)}>
              Discard draft
            </Key>
            <Key onClick={() => setSure(false)}>Cancel</Key>
          </>
        ) : (
          <Key onClick={() => setSure(true)}>Discard draft…</Key>
        )}
        <Key weight="main" busy={accept.isPending} disabled={errors > 0 || draft.overrun.length > 0} onClick={() => accept.mutate({ draft, reason })}>
          Accept draft
        </Key>
      </div>
    </section>
  )
}

