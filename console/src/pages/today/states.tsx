// How many domains are in each state; each is a way to those domains.
import { Link } from 'react-router'
import type { DomainCount } from '../../api/types'
import { Lamp, standing, urgentFirst } from '../../parts/lamp'
import { number } from '../../parts/text'

export function States({ states }: { states: DomainCount[] }) {
  const of = (verdict: string) => states.filter((c) => c.verdict === verdict).reduce((sum, c) => sum + c.domains, 0)
  return (
    <nav aria-label="Domains by state" className="flex flex-wrap gap-2">
      {urgentFirst
        .filter((v) => of(v) > 0)
        .map((v) => {
          const { light, word } = standing(v)
          return (
            <Link key={v} to={`/domains?verdict=${v}`} className="plate flex min-w-36 flex-1 items-center gap-3 p-3 hover:border-accent">
              <Lamp light={light} size={24} />
              <span>
                <span className="block text-lead font-semibold">{number(of(v))}</span>
                <span className="block text-fine text-soft">{word}</span>
              </span>
            </Link>
          )
        })}
    </nav>
  )
}
