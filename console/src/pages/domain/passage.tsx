// The passage: the four stages from knowing what a zone should contain to everybody seeing it. The one at hand says
// what to do, and leads there.
import { Link } from 'react-router'
import type { Stage } from '../../api/types'

const stages: Record<string, { title: string; to: string; act: string }> = {
  records: { title: 'Records known', to: '/add?zone=', act: 'Find its records' },
  placed: { title: 'At the provider', to: 'changes', act: 'Review and sync' },
  delegated: { title: 'Delegated', to: 'handover', act: 'Move the domain' },
  settled: { title: 'Settled', to: '.', act: 'Show resolvers' },
}

const byHandover = { title: 'Delegated', to: 'handover', act: 'See the handover' }

export function Passage({ name, stages: list, moving }: { name: string; stages: Stage[]; moving: boolean }) {
  if (list.every((s) => s.state === 'done')) return null
  return (
    <ol aria-label="How far this domain is" className="grid gap-2 sm:grid-cols-4">
      {list.map((s, i) => {
        const known = (moving && s.code === 'delegated' ? byHandover : stages[s.code]) ?? { title: s.code, to: '.', act: '' }
        const hand = s.state === 'current'
        return (
          <li
            key={s.code}
            aria-current={hand ? 'step' : undefined}
            className={`rounded-plate border p-3 ${hand ? 'border-2 border-settling bg-settling-wash' : s.state === 'done' ? 'border-line bg-surface' : 'border-dashed border-line-strong'}`}
          >
            <p className="flex items-center gap-2 font-semibold">
              <Buoy number={i + 1} state={s.state} />
              {known.title}
              <span className="sr-only">: {s.state}</span>
            </p>
            <p className={`mt-1 text-fine ${hand ? '' : s.state === 'done' ? 'text-soft max-sm:hidden' : 'text-soft'}`}>{s.say}</p>
            {hand && known.act && (
              <Link className="link mt-1.5 inline-block font-semibold" to={known.to.endsWith('=') ? known.to + encodeURIComponent(name) : known.to === '.' ? `/domains/${encodeURIComponent(name)}` : `/domains/${encodeURIComponent(name)}/${known.to}`}>
                {known.act} →
              </Link>
            )}
          </li>
        )
      })}
    </ol>
  )
}

function Buoy({ number, state }: { number: number; state: string }) {
  const done = state === 'done'
  return (
    <svg width="24" height="24" viewBox="0 0 24 24" aria-hidden="true" className={done ? 'text-settled' : state === 'current' ? 'text-settling' : 'text-soft'}>
      <circle cx="12" cy="12" r="10" fill={done ? 'currentColor' : 'none'} stroke="currentColor" strokeWidth="2" strokeDasharray={state === 'pending' ? '3 3' : undefined} />
      {done ? (
        <path d="m7.500 12.300 3 3 6-6.500" fill="none" className="stroke-surface" strokeWidth="2.400" strokeLinecap="round" strokeLinejoin="round" />
      ) : (
        <text x="12" y="16.500" textAnchor="middle" fontSize="13" fontWeight="600" fill="currentColor">
          {number}
        </text>
      )}
    </svg>
  )
}
