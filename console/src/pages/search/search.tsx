// Records of all zones: who points at an address, who has a name, and one change for all of them.
import { type ColumnDef, getCoreRowModel, getSortedRowModel, type SortingState, useReactTable } from '@tanstack/react-table'
import { useDeferredValue, useId, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useSearchPages } from '../../api/hooks'
import type { Hit } from '../../api/types'
import { Key, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { Choice } from '../../parts/select'
import { SortHead, sortOf } from '../../parts/sort-head'
import { count, plain, relative } from '../../parts/text'
import { Operations } from './operations'
import { Replace } from './replace'

const types = [{ value: '', label: 'every type' }, ...['A', 'AAAA', 'ALIAS', 'CAA', 'CNAME', 'MX', 'NS', 'SRV', 'TXT'].map((value) => ({ value }))]

export function Search() {
  const [params, setParams] = useSearchParams()
  const text = params.get('for') ?? ''
  const type = params.get('type') ?? ''
  const id = useId()
  const what = useDeferredValue({ text: text.trim(), type })
  const put = (name: string, value: string) =>
    setParams((p) => (value === '' ? p.delete(name) : p.set(name, value), p), { replace: true })
  return (
    <>
      <title>Search · Agile Beacon</title>
      <PageHead title="Search" lead="Find desired records in all zones, and change them in one bulk change." />
      <div className="grid gap-5">
        <Plate>
          <div className="grid gap-3 sm:grid-cols-[1fr_10rem]">
            <div>
              <label className="label" htmlFor={id}>
                Address, network, name, or other data of records
              </label>
              <input id={id} type="search" autoFocus value={text} onChange={(e) => put('for', e.target.value)} spellCheck={false} autoCapitalize="none" className="field data" placeholder="192.0.2.40, 192.0.2.0/24, web*, *.post.example" aria-describedby={id + 'x'} />
              <p id={id + 'x'} className="mt-1 text-fine text-soft">
                * stands for anything, at the beginning or at the end.
              </p>
            </div>
            <div>
              <label className="label" htmlFor={id + 't'}>
                Type
              </label>
              <Choice id={id + 't'} value={type} onChange={(v) => put('type', v)} options={types} />
            </div>
          </div>
        </Plate>
        {what.text !== '' && <Results key={what.text + ' ' + what.type} text={what.text} type={what.type} />}
        <Operations />
      </div>
    </>
  )
}

function Results({ text, type }: { text: string; type: string }) {
  const pages = useSearchPages({ text, type })
  const [changed, setChanged] = useState(false) // what was done stays in sight, though nothing is found any more
  const hits = pages.data?.pages.flatMap((p) => p.items) ?? []
  if (pages.error) return <Trouble error={pages.error} />
  return (
    <>
      {(hits.length > 0 || changed) && <Replace text={text} type={type} changed={() => setChanged(true)} />}
      <Plate title="Found" aside={<span aria-live="polite">{pages.data && `${count(hits.length, 'record')}${pages.hasNextPage ? ', and there are more' : ''}`}</span>}>
        <Shown query={pages} rows={2}>
          {() => (hits.length === 0 ? <p className="text-soft">No zone has such a desired record.</p> : <Hits hits={hits} />)}
        </Shown>
        {pages.hasNextPage && (
          <Key className="mt-3" busy={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            Show more
          </Key>
        )}
      </Plate>
    </>
  )
}

const hitColumns: ColumnDef<Hit>[] = [
  { id: 'zone', header: 'Zone', accessorFn: (h) => plain(h.zone) },
  { id: 'name', header: 'Name', accessorFn: (h) => relative(h.record.name, h.zone) },
  { id: 'type', header: 'Type', accessorFn: (h) => h.record.type },
  { id: 'ttl', header: 'TTL', accessorFn: (h) => h.record.ttl },
  { id: 'data', header: 'Data', accessorFn: (h) => h.record.data },
]

function Hits({ hits }: { hits: Hit[] }) {
  const [sorting, sort] = useState<SortingState>([])
  const table = useReactTable({ data: hits, columns: hitColumns, state: { sorting }, onSortingChange: sort, getCoreRowModel: getCoreRowModel(), getSortedRowModel: getSortedRowModel() })
  return (
    <table className="w-full border-collapse text-left">
      <thead className="text-fine text-soft max-sm:sr-only">
        <tr className="border-b border-line-strong">
          {table.getFlatHeaders().map((h) => (
            <th key={h.id} scope="col" aria-sort={sortOf(h)} className={`py-1 pr-3 ${h.id === 'ttl' ? 'text-right' : ''}`}>
              <SortHead header={h} />
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {table.getRowModel().rows.map(({ id, original: h }) => (
          <tr key={id} className="border-b border-line align-top max-sm:grid max-sm:grid-cols-[1fr_auto_auto] max-sm:gap-x-3 max-sm:py-2">
            <td className="py-1.5 pr-3 max-sm:col-span-3 max-sm:py-0">
              <Link className="link" to={`/domains/${encodeURIComponent(plain(h.zone))}/records`}>
                {plain(h.zone)}
              </Link>
            </td>
            <th scope="row" className="data py-1.5 pr-3 font-semibold max-sm:py-0">{relative(h.record.name, h.zone)}</th>
            <td className="data py-1.5 pr-3 max-sm:py-0">{h.record.type}</td>
            <td className="data py-1.5 pr-3 text-right max-sm:py-0">{h.record.ttl}</td>
            <td className="data py-1.5 max-sm:col-span-3 max-sm:py-0">{h.record.data}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
