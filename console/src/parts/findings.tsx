// Findings: what was judged, whom it concerns, what it means, what to do.
import type { Finding } from '../api/types'
import { Tag } from './lamp'
import { plain } from './text'

const lights = { error: 'wrong', warning: 'settling', notice: 'none' } as const

export function Findings({ list }: { list: Finding[] }) {
  return (
    <ul className="grid gap-3">
      {list.map((f, i) => (
        <li key={i} className="border-l-4 border-line-strong pl-3">
          <p className="flex flex-wrap items-center gap-2">
            <Tag light={lights[f.severity as keyof typeof lights] ?? 'none'}>{f.severity}</Tag>
            <span className="font-semibold">{f.code.replaceAll('-', ' ')}</span>
            <span className="data text-soft">{plain(f.subject)}</span>
          </p>
          <p className="mt-1 wrap-anywhere">{f.message}</p>
          {f.remedy && <p className="mt-0.5 text-soft wrap-anywhere">→ {f.remedy}</p>}
        </li>
      ))}
    </ul>
  )
}
