// Findings with what would mend them, done with one press, into the draft.
import type { Found, RecordSet } from '../../../api/types'
import { Key } from '../../../parts/kit'
import { Said } from '../../../parts/findings'
import { relative } from '../../../parts/text'
import type { Change } from './shared'

export function Offers({ findings, zone, change, busy }: { findings: Found[]; zone: string; change?: Change; busy: boolean }) {
  return (
    <ul className="mb-3 grid gap-2">
      {findings.map((f, i) => (
        <li key={i} className="rounded-key border border-line bg-surface p-2.5">
          <Said finding={f} subject={`${relative(f.key.name, zone)} ${f.key.type}`} />
          {f.fix.length > 0 && (
            <div className="mt-1.5 flex flex-wrap items-center gap-x-4 gap-y-1.5">
              <div className="data min-w-0 flex-1">
                {f.fix.map((e, n) => (
                  <div key={n}>
                    {e.before.data.length > 0 && <p>− {line(e.before, zone)}</p>}
                    {e.after.data.length > 0 && <p>+ {line(e.after, zone)}</p>}
                  </div>
                ))}
              </div>
              {change && (
                <Key busy={busy} onClick={() => change({ sets: f.fix })}>
                  Add fix to draft<span className="sr-only">: {f.code.replaceAll('-', ' ')}</span>
                </Key>
              )}
            </div>
          )}
        </li>
      ))}
    </ul>
  )
}

const line = (s: RecordSet, zone: string) => `${relative(s.name, zone)} ${s.ttl} ${s.type} ${s.data.join(' | ')}`
