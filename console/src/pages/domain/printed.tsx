// A report for printing: what a customer is handed. No controls but one, and nothing that needs a colour to be understood.
import { Link } from 'react-router'
import { useWorld } from '../../api/clock'
import { useDomain, useReport } from '../../api/hooks'
import type { Report, Source } from '../../api/types'
import { Findings } from '../../parts/findings'
import { Key, Shown } from '../../parts/kit'
import { Lamp, standing } from '../../parts/lamp'
import { moment, plain, shown } from '../../parts/text'
import { useName } from './domain'
import { contact } from './sites'

export function Printed() {
  const name = useName()
  const domain = useDomain(name)
  const report = useReport(name, true)
  return (
    <article className="mx-auto max-w-3xl bg-surface p-4 text-ink sm:p-8 print:max-w-none print:p-0">
      <title>{`Report on ${name} · Agile Beacon`}</title>
      <div className="mb-6 flex flex-wrap justify-between gap-3 print:hidden">
        <Link className="link" to={`/domains/${encodeURIComponent(name)}`}>
          Back to the domain
        </Link>
        <Key weight="main" onClick={() => window.print()}>
          Print
        </Key>
      </div>
      <Shown query={report}>{(r) => <Body report={r} label={domain.data?.description ?? ''} />}</Shown>
    </article>
  )
}

function Body({ report: r, label }: { report: Report; label: string }) {
  const world = useWorld(60_000)
  const { light, word, sentence } = standing(r.verdict)
  const now = world?.now ?? Date.parse(r.checked_at)
  return (
    <div className="grid gap-6">
      <header>
        <h1 className="text-head font-semibold wrap-anywhere">{shown(plain(r.domain))}</h1>
        {label && <p className="text-soft">{label}</p>}
        <p className="mt-3 flex items-center gap-2 text-lead font-semibold">
          <Lamp light={light} size={24} /> {word}
        </p>
        <p>{sentence}</p>
        <p className="text-soft">
          Looked at on {new Date(r.checked_at).toISOString().slice(0, 16).replace('T', ' ')} UTC.
          {r.settles_by && Date.parse(r.settles_by) > now && ` The old answers expire from every cache by ${moment(Date.parse(r.settles_by), now)}.`}
        </p>
      </header>
      <Part title="Who says what">
        <table className="w-full text-left">
          <thead>
            <tr className="border-b border-line-strong">
              <th className="py-1 pr-3">Who</th>
              <th className="py-1 pr-3 max-sm:hidden">Address</th>
              <th className="py-1">Names these nameservers</th>
            </tr>
          </thead>
          <tbody>
            {r.registrar && !r.registrar.problem && <Line who={`registrar (${r.registrar.account})`} at="" list={r.registrar.active.length > 0 ? r.registrar.active : (r.registrar.listed ?? [])} />}
            {r.parents.map((s) => (
              <Server key={s.name + s.address} source={s} label="parent " />
            ))}
            {r.servers.map((s) => (
              <Server key={s.name + s.address} source={s} label="" />
            ))}
          </tbody>
        </table>
      </Part>
      <Part title="What resolvers see">
        <ul className="list-disc pl-5">
          {r.resolvers.map((v) => (
            <li key={v.name}>
              {v.name} ({v.group ? `${v.group}, ` : ''}
              {v.address}): {v.problem ? v.problem : `${v.sees}${v.through ? `, through ${v.through}` : ''}`}
            </li>
          ))}
          {r.resolvers.length === 0 && <li>None was asked.</li>}
        </ul>
      </Part>
      {r.dnssec !== 'indeterminate' && (
        <Part title="Signatures (DNSSEC)">
          <p>{r.dnssec === 'secure' ? 'Signed, with a valid chain from the root.' : r.dnssec === 'bogus' ? 'Validating resolvers refuse the answers.' : 'The domain is not signed.'}</p>
        </Part>
      )}
      {!!r.arrival?.websites.length && (
        <Part title="Websites">
          <ul className="list-disc pl-5">
            {r.arrival.websites.map((s) => (
              <li key={s.name}>
                <span className="font-semibold">{plain(s.name)}</span>: {s.state}
                {s.leads.map((a) => `; ${a.address}: http ${contact(a.http, s.name)}, https ${contact(a.https, s.name)}`)}
              </li>
            ))}
          </ul>
          {r.arrival.findings.length > 0 && (
            <div className="mt-3">
              <Findings list={r.arrival.findings} />
            </div>
          )}
        </Part>
      )}
      <Part title={r.findings.length > 0 ? 'Findings' : 'No findings that need a fix'}>
        <Findings list={r.findings} />
      </Part>
    </div>
  )
}

function Part({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <section className="break-inside-avoid-page">
      <h2 className="mb-2 text-lead font-semibold">{title}</h2>
      {children}
    </section>
  )
}

const Server = ({ source: s, label }: { source: Source; label: string }) => <Line who={label + plain(s.name)} at={s.address} list={s.nameservers ?? []} problem={s.problem} />

function Line({ who, at, list, problem }: { who: string; at: string; list: string[]; problem?: string }) {
  return (
    <tr className="border-b border-line align-top">
      <td className="min-w-28 py-1 pr-3 wrap-anywhere sm:whitespace-nowrap">{who}</td>
      <td className="data py-1 pr-3 whitespace-nowrap max-sm:hidden">{at}</td>
      <td className="data py-1 wrap-anywhere">
        {problem
          ? problem
          : list.map((name, i) => (
              <span key={name}>
                <span className="sm:whitespace-nowrap">{plain(name)}</span>
                {i < list.length - 1 && ', '}
              </span>
            ))}
      </td>
    </tr>
  )
}
