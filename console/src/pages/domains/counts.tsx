// How many domains are in which state, and what was found at most of them, as keys that narrow the list down.
import type { DomainCount } from '../../api/types'
import { Lamp, standing, urgentFirst } from '../../parts/lamp'
import { number } from '../../parts/text'

export function States({ counts, chosen, choose }: { counts: DomainCount[]; chosen: string | null; choose: (verdict: string | null) => void }) {
  const of = (verdict: string) => counts.filter((c) => c.verdict === verdict).reduce((sum, c) => sum + c.domains, 0)
  return (
    <div role="group" aria-label="By state" className="grid grid-cols-2 gap-2 sm:grid-cols-3 xl:grid-cols-7">
      {urgentFirst.map((v) => {
        const { light, word } = standing(v)
        const on = chosen === v
        return (
          <button
            key={v}
            type="button"
            aria-pressed={on}
            onClick={() => choose(on ? null : v)}
            className={`plate flex items-center gap-3 p-3 text-left ${on ? 'border-accent' : 'hover:border-accent'}`}
          >
            <Lamp light={light} size={24} />
            <span>
              <span className="block text-lead font-semibold">{number(of(v))}</span>
              <span className="block text-fine text-soft">{word}</span>
            </span>
          </button>
        )
      })}
    </div>
  )
}

/** What was found, with how many domains it is the gravest of; the commonest first. */
export function commonest(counts: DomainCount[], verdict: string | null): [code: string, domains: number][] {
  const sums = new Map<string, number>()
  for (const c of counts) if (c.gravest && (verdict === null || c.verdict === verdict)) sums.set(c.gravest, (sums.get(c.gravest) ?? 0) + c.domains)
  return [...sums].sort((a, b) => b[1] - a[1] || a[0].localeCompare(b[0]))
}

const mostCodes = 8

type FindingsProps = { counts: DomainCount[]; verdict: string | null; chosen: string | null; choose: (code: string | null) => void }

export function Findings({ counts, verdict, chosen, choose }: FindingsProps) {
  const list = commonest(counts, verdict)
  if (list.length === 0) return null
  return (
    <div role="group" aria-label="By the gravest finding" className="flex flex-wrap gap-2">
      {list
        .filter(([code], i) => i < mostCodes || code === chosen)
        .map(([code, domains]) => (
          <button
            key={code}
            type="button"
            aria-pressed={code === chosen}
            onClick={() => choose(code === chosen ? null : code)}
            className={`min-h-8 rounded-key border px-3 text-fine ${code === chosen ? 'border-accent font-semibold' : 'border-line-strong hover:border-accent'}`}
          >
            {code.replaceAll('-', ' ')} <span className="text-soft">{number(domains)}</span>
          </button>
        ))}
    </div>
  )
}
