// What the zone should contain, and how it came to be so.
import { useDeferredValue, useId, useState } from 'react'
import { Link } from 'react-router'
import { useFindings, useHosts, useRecords } from '../../api/hooks'
import type { DnsRecord } from '../../api/types'
import { Findings } from '../../parts/findings'
import { Empty, Plate, Shown } from '../../parts/kit'
import { EmptyChart } from '../../parts/pictures'
import { count, plain, relative } from '../../parts/text'
import { useName } from './domain'
import { Revisions } from './revisions'

/** How many records are drawn at once; the filter finds the others. */
const most = 500

export function Records() {
  const name = useName()
  const records = useRecords(name)
  return (
    <div className="grid gap-5">
      <Shown query={records}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty picture={<EmptyChart />} title="No records yet">
              <Link className="link" to={`/define?zone=${name}`}>
                Put out a definition
              </Link>{' '}
              to say what this zone should contain.
            </Empty>
          ) : (
            <Table zone={name} items={items} />
          )
        }
      </Shown>
      <Judged name={name} />
      <Revisions name={name} />
    </div>
  )
}

function Table({ zone, items }: { zone: string; items: DnsRecord[] }) {
  const hosts = useHosts()
  const [text, type] = useState('')
  const wanted = useDeferredValue(text.trim().toLowerCase())
  const id = useId()
  const following = new Set(hosts.data?.items.map((h) => h.name))
  const found = wanted === '' ? items : items.filter((r) => `${relative(r.name, zone)} ${r.type} ${r.data}`.toLowerCase().includes(wanted))
  return (
    <Plate title="What it should contain" aside={found.length === items.length ? count(items.length, 'record') : `${found.length} of ${count(items.length, 'record')}`}>
      <label className="label" htmlFor={id}>
        Find
      </label>
      <input id={id} type="search" value={text} onChange={(e) => type(e.target.value)} className="field mb-3 max-w-sm" placeholder="name, type or data" />
      {found.length === 0 && <p className="text-soft">No record has “{text}” in it.</p>}
      <table className="w-full border-collapse text-left">
        <thead className="text-fine text-soft max-sm:sr-only">
          <tr className="border-b border-line-strong">
            <th scope="col" className="py-1 pr-3 font-semibold">Name</th>
            <th scope="col" className="py-1 pr-3 font-semibold">Type</th>
            <th scope="col" className="py-1 pr-3 text-right font-semibold">TTL</th>
            <th scope="col" className="py-1 font-semibold">Data</th>
          </tr>
        </thead>
        <tbody>
          {found.slice(0, most).map((r, i) => (
            <tr key={i} className="border-b border-line align-top max-sm:grid max-sm:grid-cols-[1fr_auto_auto] max-sm:gap-x-3 max-sm:py-2">
              <th scope="row" className="data py-1.5 pr-3 font-semibold max-sm:py-0">{relative(r.name, zone)}</th>
              <td className="data py-1.5 pr-3 max-sm:py-0">{r.type}</td>
              <td className="data py-1.5 pr-3 text-right max-sm:py-0">{r.ttl}</td>
              <td className="data py-1.5 max-sm:col-span-3 max-sm:py-0">
                {r.data}
                {following.has(r.name) && (r.type === 'A' || r.type === 'AAAA') && (
                  <Link className="link ml-2 font-sans" to={`/hosts/${plain(r.name)}`}>
                    follows a reported address
                  </Link>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {found.length > most && <p className="mt-2 text-soft">The first {most} are shown; find the others by name.</p>}
    </Plate>
  )
}

/** What the rules say of these records. */
function Judged({ name }: { name: string }) {
  const findings = useFindings(name)
  return (
    <Plate title="Findings" aside="what is wrong with these records, and what to do">
      <Shown query={findings} rows={1}>
        {({ items }) => (items.length === 0 ? <p className="text-soft">Nothing is wrong with them.</p> : <Findings list={items} />)}
      </Shown>
    </Plate>
  )
}
