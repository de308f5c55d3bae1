// The table of records: thousands of them, of which only those are drawn that one looks at.
import { type ColumnDef, getCoreRowModel, getFilteredRowModel, getSortedRowModel, type SortingState, useReactTable } from '@tanstack/react-table'
import { useWindowVirtualizer } from '@tanstack/react-virtual'
import { useCallback, useDeferredValue, useEffect, useId, useLayoutEffect, useMemo, useRef, useState } from 'react'
import { useHosts } from '../../../api/hooks'
import type { DnsRecord, Draft } from '../../../api/types'
import { Key, Plate } from '../../../parts/kit'
import { SortHead, sortOf } from '../../../parts/sort-head'
import { count } from '../../../parts/text'
import { Editor } from './editor'
import { Offers } from './offers'
import { columns, type Change } from './shared'
import { RowLine } from './row-line'
import { gravest, type Row, rowsOf, unplaced } from './merge'
import { Unfold } from '../../../parts/unfold'

type TableProps = { zone: string; items: DnsRecord[]; draft?: Draft; change?: Change; busy: boolean; paste: () => void }

const defs: ColumnDef<Row>[] = [
  { id: 'name', header: 'Name', accessorKey: 'name' },
  { id: 'type', header: 'Type', accessorFn: (r) => r.record.type },
  { id: 'ttl', header: 'TTL', accessorFn: (r) => r.record.ttl },
  { id: 'data', header: 'Data', accessorFn: (r) => r.record.data },
]

const lineHeight = () => 37

/** On a wide screen a row with less text than this takes one line, and need not be measured. */
const oneLine = 70

export function Table({ zone, items, draft, change, busy, paste }: TableProps) {
  const hosts = useHosts()
  const [text, type] = useState('')
  const [open, setOpen] = useState('') // the row whose editor is open; "new" for a new record
  const wanted = useDeferredValue(text.trim().toLowerCase())
  const id = useId()
  const rows = useMemo(() => rowsOf(zone, items, draft), [zone, items, draft])
  const following = useMemo(() => new Set(hosts.data?.items.map((h) => h.name)), [hosts.data])
  const [sorting, sort] = useState<SortingState>([])
  const model = useReactTable({
    data: rows, columns: defs, state: { sorting, globalFilter: wanted }, onSortingChange: sort, getRowId: (r) => r.id,
    globalFilterFn: (row, _, text: string) => row.original.text.includes(text),
    getCoreRowModel: getCoreRowModel(), getFilteredRowModel: getFilteredRowModel(), getSortedRowModel: getSortedRowModel(),
  })
  const shownRows = model.getRowModel().rows
  const found = useMemo(() => shownRows.map((r) => r.original), [shownRows])
  const missing = useMemo(() => unplaced(rows, draft?.findings ?? []), [rows, draft])
  const wide = window.innerWidth >= 1000
  const list = useRef<HTMLDivElement>(null)
  const [top, setTop] = useState(0)
  const [moved, setMoved] = useState(0) // something above the list changed its height
  useLayoutEffect(() => setTop((list.current?.getBoundingClientRect().top ?? 0) + window.scrollY), [missing.length, open, draft, moved])
  const keyOf = useCallback((i: number) => found[i]!.id, [found]) // another function would mean other rows, and all of them measured again
  const virtual = useWindowVirtualizer({ count: found.length, estimateSize: lineHeight, overscan: 8, useFlushSync: false, scrollMargin: top, getItemKey: keyOf })
  const focus = useRef('')
  useEffect(() => {
    if (focus.current && open === '') document.getElementById(focus.current)?.focus()
  }, [open])

  function walk(e: React.KeyboardEvent<HTMLDivElement>) {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[e.key]
    const at = (e.target as HTMLElement).dataset['row']
    if (step === undefined || at === undefined) return
    e.preventDefault()
    const next = Math.min(Math.max(Number(at) + step, 0), found.length - 1)
    virtual.scrollToIndex(next)
    requestAnimationFrame(() => document.getElementById(`${id}-${next}`)?.focus())
  }
  const close = useCallback((from: string) => {
    focus.current = from
    setOpen('')
  }, [])
  const toggle = useCallback((row: string, from: string, isOpen: boolean) => (isOpen ? close(from) : setOpen(row)), [close])
  const shown = found.length === rows.length ? count(rows.length, 'record') : `${found.length} of ${count(rows.length, 'record')}`
  return (
    <Plate title="Desired records" aside={<span aria-live="polite">{shown}</span>}>
      <div className="mb-3 flex flex-wrap items-end gap-2">
        <div className="min-w-48 flex-1">
          <label className="label" htmlFor={id}>
            Find
          </label>
          <input id={id} type="search" value={text} onChange={(e) => type(e.target.value)} className="field" placeholder="name, type or data" />
        </div>
        {change && (
          <>
            <Key id={id + 'new'} onClick={() => setOpen(open === 'new' ? '' : 'new')} aria-expanded={open === 'new'}>
              Add a record
            </Key>
            <Key onClick={paste}>Paste records</Key>
          </>
        )}
      </div>
      {open === 'new' && change && (
        <div className="mb-4 rounded-key border border-line-strong bg-sunken p-3">
          <Editor zone={zone} change={change} busy={busy} close={() => close(id + 'new')} />
        </div>
      )}
      {missing.length > 0 && (
        <Unfold className="mb-3" start={gravest(missing) !== 'notice'} onOpen={() => setMoved((n) => n + 1)} summary={<span className="font-semibold">{count(missing.length, 'finding')} about missing records</span>}>
          <div className="mt-2">
            <Offers findings={missing} zone={zone} change={change} busy={busy} />
          </div>
        </Unfold>
      )}
      {found.length === 0 && <p className="text-soft">{rows.length === 0 ? 'No records yet.' : `No record has “${text}” in it.`}</p>}
      <div role="table" aria-label="Records" aria-rowcount={found.length + 1} onKeyDown={walk}>
        <div role="rowgroup">
          <div role="row" aria-rowindex={1} className={`grid gap-x-3 border-b border-line-strong px-1 py-1 text-fine font-semibold text-soft max-sm:sr-only ${columns}`}>
            {model.getFlatHeaders().map((h) => (
              <span key={h.id} role="columnheader" aria-sort={sortOf(h)} className={h.id === 'ttl' ? 'text-right' : ''}>
                <SortHead header={h} />
              </span>
            ))}
            <span role="columnheader" className="sr-only">
              Change
            </span>
          </div>
        </div>
        <div role="rowgroup" ref={list} className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((v) => {
            const row = found[v.index]!
            const short = wide && row.text.length + row.kit.length < oneLine && open !== row.id // its height is known
            return (
              <div key={v.key} ref={short ? undefined : virtual.measureElement} data-index={v.index} className="absolute top-0 left-0 w-full" style={{ transform: `translateY(${v.start - top}px)` }}>
                <RowLine
                  row={row}
                  zone={zone}
                  at={v.index}
                  buttonId={`${id}-${v.index}`}
                  follows={following.has(row.record.name) && (row.record.type === 'A' || row.record.type === 'AAAA')}
                  open={open === row.id}
                  toggle={toggle}
                  change={change}
                  busy={busy}
                />
              </div>
            )
          })}
        </div>
      </div>
    </Plate>
  )
}
