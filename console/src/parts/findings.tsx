// Findings: what was judged, whom it concerns, what it means, what to do.
import type { Finding, Found, RecordSet } from '../api/types'
import { Tag } from './lamp'
import { Meaning } from './meaning'
import { Remedy } from './remedy-text'
import { plain } from './text'
import { Unfold } from './unfold'

const lights = { error: 'alarm', warning: 'settling', notice: 'none' } as const

/** Puts findings together that have the same code, severity and remedy: three resolvers that fail are one matter. */
export function alike<F extends Finding>(list: F[]): { finding: F; others: string[] }[] {
  const out: { finding: F; others: string[] }[] = []
  for (const f of list) {
    const like = out.find((o) => o.finding.code === f.code && o.finding.severity === f.severity && o.finding.remedy === f.remedy && o.finding.subject !== f.subject && !('fix' in f))
    if (!like) out.push({ finding: f, others: [] })
    else if (!like.others.includes(plain(f.subject))) like.others.push(plain(f.subject))
  }
  return out
}

export function Findings({ list }: { list: (Finding | Found)[] }) {
  return (
    <ul className="grid gap-3">
      {alike(list).map(({ finding: f, others }, i) => (
        <li key={i} className="border-l-4 border-line-strong pl-3">
          <Said finding={f} subject={plain(f.subject)} />
          {others.length > 0 && <p className="wrap-anywhere">The same holds for {others.join(', ')}.</p>}
          {'fix' in f && f.fix.length > 0 && (
            <div className="data mt-1.5 rounded-key bg-sunken p-2">
              <p className="font-sans text-soft">This fixes it:</p>
              {f.fix.map((e, n) => (
                <div key={n}>
                  {e.before.data.length > 0 && <p>− {line(e.before)}</p>}
                  {e.after.data.length > 0 && <p>+ {line(e.after)}</p>}
                </div>
              ))}
            </div>
          )}
        </li>
      ))}
    </ul>
  )
}

/** One finding: how grave it is, whom it concerns, what it means, what to do. */
export function Said({ finding: f, subject }: { finding: Finding; subject: string }) {
  return (
    <>
      <p className="flex flex-wrap items-center gap-2">
        <Tag light={lights[f.severity as keyof typeof lights] ?? 'none'}>{f.severity}</Tag>
        <Meaning code={f.code} />
        <span className="data text-soft">{subject}</span>
      </p>
      <p className="mt-1 wrap-anywhere">{f.message}</p>
      {f.remedy && (
        <p className="mt-0.5 text-soft wrap-anywhere">
          → <Remedy text={f.remedy} />
        </p>
      )}
      {!!f.seen?.length && (
        <Unfold className="mt-1 text-fine" summary="Evidence">
          <ul className="data mt-1 rounded-key bg-sunken p-2">
            {f.seen.map((line, i) => (
              <li key={i} className="wrap-anywhere">
                {line}
              </li>
            ))}
          </ul>
        </Unfold>
      )}
    </>
  )
}

const line = (s: RecordSet) => `${plain(s.name)} ${s.ttl} ${s.type} ${s.data.join(' | ')}`
