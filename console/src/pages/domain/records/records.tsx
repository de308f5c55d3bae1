// What the zone should contain: found, judged and changed here. Changes are gathered in a draft that everybody sees.
import { useCallback, useEffect, useState } from 'react'
import { Link } from 'react-router'
import { useAcceptDraft, useEditDraft, useFindings, useRecords, useDetach, useZoneDraft } from '../../../api/hooks'
import { Empty, Key, Notice, Plate, Shown, Trouble } from '../../../parts/kit'
import { EmptyChart } from '../../../parts/pictures'
import { useName } from '../domain'
import { DraftBar } from './draft-bar'
import { Paste } from './paste'
import type { Change } from './shared'
import { Table } from './table'

export function Records() {
  const name = useName()
  const records = useRecords(name)
  const draft = useZoneDraft(name)
  const edit = useEditDraft(name)
  const accept = useAcceptDraft(name)
  const [pasting, paste] = useState<string>()
  const seen = draft.data
  const change: Change = useCallback(
    (what, done) => {
      if (seen) edit.mutate({ draft: seen, change: what }, { onSuccess: done })
    },
    [seen, edit.mutate],
  )
  const managed = seen?.managed_by ?? ''
  const changing = seen && managed === '' ? change : undefined
  usePasteAnywhere(managed === '' ? paste : undefined)
  return (
    <div className="grid gap-5" onDragOver={(e) => e.preventDefault()} onDrop={(e) => (e.preventDefault(), void e.dataTransfer.files[0]?.text().then(paste))}>
      {managed !== '' && <Managed name={name} by={managed} />}
      {edit.error && <Trouble error={edit.error} />}
      {accept.data && seen?.edits.length === 0 && (
        <Notice light="settled" title={`Saved as revision ${accept.data.number}.`}>
          Nothing is written to a provider yet:{' '}
          <Link className="link" to={`/domains/${encodeURIComponent(name)}/changes`}>
            review and sync the changes
          </Link>
          .
        </Notice>
      )}
      {pasting !== undefined && changing && <Paste zone={name} text={pasting} type={paste} change={changing} busy={edit.isPending} close={() => paste(undefined)} />}
      <Shown query={records}>
        {({ items }) =>
          items.length === 0 && seen?.edits.length === 0 && pasting === undefined ? (
            <Empty picture={<EmptyChart />} title="No records yet">
              <Link className="link" to={`/add?zone=${name}`}>
                Find its records
              </Link>{' '}
              where it is served now,{' '}
              <Link className="link" to={`/apply?zone=${name}`}>
                apply a definition
              </Link>
              , or <Key onClick={() => paste('')}>paste records</Key>
            </Empty>
          ) : (
            <Table zone={name} items={items} draft={seen} change={changing} busy={edit.isPending} paste={() => paste('')} />
          )
        }
      </Shown>
      <AliasNotes name={name} />
      {seen && seen.edits.length > 0 && <DraftBar draft={seen} change={change} accept={accept} />}
    </div>
  )
}

/** Text that is pasted anywhere but into a field is taken for records. */
function usePasteAnywhere(take: ((text: string) => void) | undefined) {
  useEffect(() => {
    if (!take) return
    const pasted = (e: ClipboardEvent) => {
      if (e.target instanceof HTMLElement && e.target.closest('input, textarea, select')) return
      const text = e.clipboardData?.getData('text/plain') ?? ''
      if (text.trim() !== '') take(text)
    }
    document.addEventListener('paste', pasted)
    return () => document.removeEventListener('paste', pasted)
  }, [take])
}

/** A zone that a file manages is changed in that file, unless a user detaches it. */
function Managed({ name, by }: { name: string; by: string }) {
  const take = useDetach(name)
  const [asked, ask] = useState(false)
  return (
    <div className="grid gap-3">
      <Notice light="none" title={`Managed by ${by}`}>
        That file has the desired records of this zone; apply it after changes: <span className="data">beacon apply</span>. To change the zone here, detach it.
        <div className="mt-3 flex flex-wrap gap-2">
          {asked ? (
            <>
              <p className="w-full">The file will not contain changes made here. Print the present definition with “beacon zone export {name} --as definition”.</p>
              <Key weight="grave" busy={take.isPending} onClick={() => take.mutate(undefined)}>
                Detach {name}
              </Key>
              <Key onClick={() => ask(false)}>Cancel</Key>
            </>
          ) : (
            <Key onClick={() => ask(true)}>Detach from file…</Key>
          )}
        </div>
      </Notice>
      {take.error && <Trouble error={take.error} />}
    </div>
  )
}

/** What is found outside the records themselves: targets of ALIAS records that do not answer. */
function AliasNotes({ name }: { name: string }) {
  const findings = useFindings(name)
  const list = findings.data?.items.filter((f) => f.code.startsWith('alias-') && f.key.type === '') ?? []
  if (list.length === 0) return null
  return (
    <Plate title="Names that follow others">
      <ul className="grid gap-2">
        {list.map((f, i) => (
          <li key={i}>
            <p>{f.message}</p>
            <p className="text-soft">→ {f.remedy}</p>
          </li>
        ))}
      </ul>
    </Plate>
  )
}
