// The report of a handover, to print and hand on: planned and real times, and on what evidence each act was done.
import { Link } from 'react-router'
import { useHandover } from '../../../api/handovers'
import type { Handover } from '../../../api/types'
import { Key, Shown } from '../../../parts/kit'
import { plain, shown } from '../../../parts/text'
import { useName } from '../domain'

const utc = (text: string | undefined) => (text ? text.slice(0, 19).replace('T', ' ') : '')

export function PrintedHandover() {
  const name = useName()
  return (
    <article className="mx-auto max-w-3xl bg-surface p-4 text-ink sm:p-8 print:max-w-none print:p-0">
      <title>{`Handover of ${name} · Agile Beacon`}</title>
      <div className="mb-6 flex flex-wrap justify-between gap-3 print:hidden">
        <Link className="link" to={`/domains/${encodeURIComponent(name)}/handover`}>
          Back to the handover
        </Link>
        <Key weight="main" onClick={() => window.print()}>
          Print
        </Key>
      </div>
      <Shown query={useHandover(name, true)}>{(h) => <Body h={h} />}</Shown>
    </article>
  )
}

function Body({ h }: { h: Handover }) {
  const ended = h.state === 'done' ? 'Done' : h.state === 'abandoned' ? 'Ended before its end' : 'Not ended yet'
  return (
    <div className="grid gap-6">
      <header>
        <h1 className="text-head font-semibold wrap-anywhere">Handover of {shown(plain(h.domain))}</h1>
        <p className="text-soft">All times are UTC.</p>
        <dl className="mt-3 grid gap-x-5 gap-y-1 sm:grid-cols-[11rem_1fr]">
          {[
            ['Old nameservers', `${h.from || 'elsewhere'}: ${h.old.map(plain).join(', ') || 'not delegated'}`],
            ['New nameservers', `${h.to || 'elsewhere'}: ${h.new.map(plain).join(', ')}`],
            ['Registrar', h.registrar || 'by hand'],
            ['Begun', `${utc(h.begun_at)}, by ${h.begun_by}`],
            [ended, utc(h.ended_at)],
          ].map(([label, text]) => (
            <div key={label} className="contents">
              <dt className="text-soft">{label}</dt>
              <dd className="wrap-anywhere">{text}</dd>
            </div>
          ))}
        </dl>
      </header>
      <section>
        <h2 className="mb-2 text-lead font-semibold">Steps</h2>
        <table className="w-full text-left">
          <thead>
            <tr className="border-b border-line-strong">
              <th className="py-1 pr-3">Step</th>
              <th className="py-1 pr-3">Planned</th>
              <th className="py-1">Done</th>
            </tr>
          </thead>
          <tbody>
            {h.steps.map((s, i) => (
              <tr key={i} className="border-b border-line align-top">
                <td className="py-1 pr-3">{s.text}</td>
                <td className="data py-1 pr-3 whitespace-nowrap max-sm:whitespace-normal">{utc(s.planned ?? (s.state === 'done' ? undefined : s.at))}</td>
                <td className="data py-1 whitespace-nowrap max-sm:whitespace-normal">{s.state === 'done' ? utc(s.at) : ''}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <section>
        <h2 className="mb-2 text-lead font-semibold">What was established, and said</h2>
        <Entries h={h} />
      </section>
    </div>
  )
}

export function Entries({ h }: { h: Handover }) {
  return (
    <ol className="grid gap-2">
      {h.report.map((e, i) => (
        <li key={i} className="grid gap-x-5 sm:grid-cols-[11rem_1fr]">
          <span className="data text-soft">{utc(e.at)}</span>
          <div className="wrap-anywhere">
            {e.text}
            {e.by && <span className="text-soft"> · {e.by}</span>}
            {e.act !== undefined && e.act > 0 && <span className="text-soft"> · act {e.act}</span>}
            {e.grounds && (
              <ul className="mt-1 list-disc pl-5 text-soft">
                {e.grounds.map((g) => (
                  <li key={g}>{g}</li>
                ))}
              </ul>
            )}
          </div>
        </li>
      ))}
    </ol>
  )
}
