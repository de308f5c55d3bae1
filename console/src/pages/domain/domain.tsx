// One domain: its state, the stages of its move, and its views.
import { NavLink, Outlet, useParams } from 'react-router'
import { useCheck, useDomain } from '../../api/hooks'
import { Key, PageHead, Shown, Trouble } from '../../parts/kit'
import { standing, Tag } from '../../parts/lamp'
import { plain, shown } from '../../parts/text'
import { Passage } from './passage'

const views = [
  { to: '.', label: 'Chain' },
  { to: 'records', label: 'Records' },
  { to: 'history', label: 'History' },
  { to: 'changes', label: 'Changes' },
  { to: 'delegation', label: 'Delegation' },
  { to: 'handover', label: 'Handover' },
]

/** Whether a domain has an open handover. */
export const moves = (state: string | undefined) => state === 'open' || state === 'paused'

/** The name in the address, without its final dot. */
export const useName = () => plain(useParams().name ?? '')

export function DomainPage() {
  const name = useName()
  const domain = useDomain(name)
  const check = useCheck(name)
  return (
    <>
      <title>{`${name} · Agile Beacon`}</title>
      <Shown query={domain}>
        {(d) => {
          const { light, word, sentence } = standing(d.verdict)
          const hand = d.passage.find((s) => s.state === 'current')
          return (
            <>
              <PageHead
                title={shown(name)}
                lead={
                  <span className="flex flex-wrap items-center gap-2">
                    <Tag light={light}>{word}</Tag>
                    <span>{hand && hand.code !== 'settled' && d.verdict !== 'unknown' ? hand.say : sentence}</span>
                  </span>
                }
              >
                <Key onClick={() => check.mutate()} busy={check.isPending}>
                  {check.isPending ? 'Checking' : 'Check now'}
                </Key>
              </PageHead>
              {check.error && (
                <div className="mb-4">
                  <Trouble error={check.error} />
                </div>
              )}
              <Passage name={name} stages={d.passage} moving={moves(d.handover)} />
              <nav aria-label={`Views of ${name}`} className="my-5 flex gap-1 overflow-x-auto border-b border-line">
                {views.map((v) => (
                  <NavLink
                    key={v.to}
                    to={v.to === '.' ? `/domains/${encodeURIComponent(name)}` : `/domains/${encodeURIComponent(name)}/${v.to}`}
                    end
                    className={({ isActive }) =>
                      `border-b-3 px-3 py-2 font-semibold whitespace-nowrap -outline-offset-3 ${isActive ? 'border-settling text-ink' : 'border-transparent text-soft hover:text-ink'}`
                    }
                  >
                    {v.label}
                  </NavLink>
                ))}
              </nav>
              <Outlet />
            </>
          )
        }}
      </Shown>
    </>
  )
}
