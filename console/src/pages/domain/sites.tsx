// The domain's sites: where each name leads, what answers there, and whether an authority would issue a certificate.
import type { Report, SiteAddress, SiteContact, SiteReadiness, SiteView } from '../../api/types'
import { Findings } from '../../parts/findings'
import { Plate } from '../../parts/kit'
import { Lamp, type Light } from '../../parts/lamp'
import { moment, plain } from '../../parts/text'

const states: Record<string, { light: Light; word: string }> = {
  settled: { light: 'settled', word: 'Settled' },
  settling: { light: 'settling', word: 'Settling' },
  'needs-action': { light: 'alarm', word: 'Needs action: waiting will not fix this' },
  'no-address': { light: 'none', word: 'No address' },
  'not-checked': { light: 'unknown', word: 'Not checked' },
}

export function Sites({ report: r }: { report: Report }) {
  if (!r.arrival || r.arrival.websites.length === 0) return null
  return (
    <Plate title="Websites" aside="addresses, what answers there, and whether a certificate can be issued">
      <ul className="grid gap-4 lg:grid-cols-2">
        {r.arrival.websites.map((s) => (
          <Site key={s.name} site={s} now={Date.parse(r.checked_at)} />
        ))}
      </ul>
      {r.arrival.findings.length > 0 && (
        <div className="mt-4 border-t border-line pt-4">
          <Findings list={r.arrival.findings} />
        </div>
      )}
    </Plate>
  )
}

function Site({ site: s, now }: { site: SiteView; now: number }) {
  const { light, word } = states[s.state] ?? { light: 'unknown' as const, word: s.state }
  return (
    <li className="min-w-0">
      <h3 className="flex flex-wrap items-center gap-2 font-semibold">
        <Lamp light={light} />
        <span className="data wrap-anywhere">{plain(s.name)}</span>
      </h3>
      <p className="text-soft">
        {word}
        {s.ends && <>, and ends at <span className="data wrap-anywhere">{s.ends}</span></>}
      </p>
      {s.leads.length > 0 && (
        <table className="mt-2 w-full text-left text-fine">
          <thead>
            <tr className="border-b border-line-strong">
              <th className="py-1 pr-3 font-semibold">Address</th>
              <th className="py-1 pr-3 font-semibold">http</th>
              <th className="py-1 font-semibold">https</th>
            </tr>
          </thead>
          <tbody>
            {s.leads.map((a) => (
              <Address key={a.address} lead={a} name={s.name} />
            ))}
          </tbody>
        </table>
      )}
      {certificates(s).map((c) => (
        <p key={c.print} className="mt-1 text-fine text-soft">
          Certificate by {c.issuer}, for {c.names.join(', ')}, until {c.until.slice(0, 10)}
          {c.distrust && `; not trusted here: ${c.distrust}`}
        </p>
      ))}
      {s.behind?.map((b) => (
        <p key={b.who} className="mt-1 text-fine text-settling">
          {b.who} still returns {b.addresses.length > 0 ? b.addresses.join(', ') : 'nowhere'}
          {b.until && `; expires by ${moment(Date.parse(b.until), now)}`}
        </p>
      ))}
      {s.state !== 'no-address' && (
        <div className="mt-2">
          <p className="text-fine font-semibold">Ready for a certificate?</p>
          <Ready over="Over HTTP" ready={s.over_http} />
          <Ready over="Over the DNS" ready={s.over_dns} />
        </div>
      )}
    </li>
  )
}

/** The certificates that the site showed where nameservers lead, each once. */
function certificates(s: SiteView) {
  const all = s.leads.flatMap((a) => (a.given && a.https?.certificate ? [a.https.certificate] : []))
  return all.filter((c, i) => all.findIndex((o) => o.print === c.print) === i)
}

function Address({ lead: a, name }: { lead: SiteAddress; name: string }) {
  return (
    <tr className="border-b border-line align-top">
      <td className="data py-1 pr-3 wrap-anywhere">
        {a.address}
        {!a.given && <span className="font-sans text-soft"> (old)</span>}
      </td>
      <td className="py-1 pr-3 wrap-anywhere">{contact(a.http, name)}</td>
      <td className="py-1 wrap-anywhere">{contact(a.https, name)}</td>
    </tr>
  )
}

const words: Record<string, string> = { barred: 'not from here', 'no-route': 'not from here', closed: 'closed', silent: 'silent', tls: 'no secure connection', http: 'no web server' }

/** What answered, in a few words. */
export function contact(c: SiteContact | null | undefined, name: string): string {
  if (!c) return 'not asked'
  if (c.failure) return words[c.failure] ?? c.failure
  if (!c.leads) return String(c.status)
  return c.leads === `https://${plain(name)}/` ? 'to https' : `to ${c.leads.replace(/^https:\/\//, '').replace(/\/$/, '')}`
}

function Ready({ over, ready: r }: { over: string; ready: SiteReadiness }) {
  const light: Light = r.ready ? 'settled' : r.unknown ? 'unknown' : 'none'
  const why = r.ready ? r.mind : r.unknown ? [r.unknown] : r.lacks
  return (
    <div className="mt-1 text-fine">
      <p className="flex items-center gap-2">
        <Lamp light={light} size={14} />
        {over}: {r.ready ? 'yes' : r.unknown ? 'check failed' : 'not yet'}
      </p>
      {!!why?.length && (
        <ul className="list-disc pl-9 text-soft">
          {why.map((w) => (
            <li key={w} className="wrap-anywhere">
              {r.ready && 'mind: '}
              {w}
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}
