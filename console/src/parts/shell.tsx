// The frame around every page: where one can go, what time it is in the world, and whether the service is there.
import { ToggleGroup } from 'radix-ui'
import { NavLink, Outlet, useNavigate } from 'react-router'
import { useConnection } from '../api/events'
import { useWorld } from '../api/clock'
import { useMe, useSignOut } from '../api/hooks'
import { Held } from './held'
import { Lamp } from './lamp'
import { Mark } from './mark'
import { type Choice, choices, useTheme } from './theme'
import { wall } from './text'

const places = [
  { to: '/', label: 'Domains' },
  { to: '/search', label: 'Search' },
  { to: '/hosts', label: 'Dynamic hosts' },
  { to: '/accounts', label: 'Accounts' },
  { to: '/apply', label: 'Apply' },
  { to: '/logbook', label: 'Logbook' },
]

export function Shell() {
  return (
    <div className="min-h-dvh lg:grid lg:grid-cols-[13rem_1fr]">
      <a href="#content" className="sr-only focus:not-sr-only focus:fixed focus:top-2 focus:left-2 focus:z-10 focus:rounded-key focus:bg-surface focus:px-3 focus:py-2">
        Skip to the content
      </a>
      <header className="print:hidden bg-deep-900 text-deep-50 lg:sticky lg:top-0 lg:flex lg:h-dvh lg:flex-col">
        <div className="flex items-center gap-2.5 px-4 py-3">
          <Mark size={34} />
          <span className="text-lead font-semibold">Agile Beacon</span>
        </div>
        <nav aria-label="Main" className="grid grid-cols-3 gap-1 px-2 pb-2 sm:flex lg:flex-col lg:pt-2">
          {places.map((p) => (
            <NavLink
              key={p.to}
              to={p.to}
              className={({ isActive }) =>
                `flex-1 rounded-key px-1.5 py-2 text-center font-semibold sm:px-3 lg:flex-none lg:text-left ${isActive ? 'bg-deep-700 text-white shadow-[inset_0_-3px_var(--color-lamp-400)] lg:shadow-[inset_3px_0_var(--color-lamp-400)]' : 'text-deep-100 hover:bg-deep-800'}`
              }
            >
              {p.label}
            </NavLink>
          ))}
        </nav>
        <div className="hidden lg:mt-auto lg:block">
          <Foot />
        </div>
      </header>
      <div className="min-w-0">
        <Lost />
        <Held />
        <main id="content" tabIndex={-1} className="mx-auto max-w-6xl px-4 py-5 outline-none sm:px-6 lg:py-7">
          <Outlet />
        </main>
        <footer className="bg-deep-900 text-deep-50 lg:hidden">
          <Foot />
        </footer>
      </div>
    </div>
  )
}

function Foot() {
  const me = useMe()
  const out = useSignOut()
  const go = useNavigate()
  const [theme, turn] = useTheme()
  return (
    <div className="grid gap-3 border-t border-deep-700 p-4">
      <WorldTime />
      <div className="flex items-center justify-between gap-2 text-fine">
        <span className="truncate">{me.data?.name}</span>
        <button type="button" className="rounded-key px-2 py-1 underline underline-offset-3 hover:bg-deep-800" onClick={() => out.mutate(undefined, { onSettled: () => void go('/sign-in') })}>
          Sign out
        </button>
      </div>
      <ToggleGroup.Root type="single" value={theme} onValueChange={(v) => v && turn(v as Choice)} aria-label="Light" className="grid grid-cols-3 rounded-key border border-deep-600 text-fine">
        {choices.map((c) => (
          <ToggleGroup.Item key={c} value={c} className="rounded-key px-2 py-1 first-letter:uppercase hover:bg-deep-800 data-[state=on]:bg-deep-700 data-[state=on]:font-semibold">
            {c}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
    </div>
  )
}

function WorldTime() {
  const world = useWorld(500)
  return (
    <div>
      <p className="text-fine text-deep-200">Simulated time</p>
      <p className="font-mono text-lead">{world ? new Date(world.now).toISOString().slice(11, 19) : '--:--:--'}</p>
      <p className="min-h-5 text-fine text-deep-200">{world && world.rate !== 1 && `${world.rate} times as fast as real time`}</p>
    </div>
  )
}

/** Says that the connection is lost, or that the service's database is away, for as long as that lasts; what was read before stays. */
function Lost() {
  const { state, since, away } = useConnection()
  if (state !== 'lost') return null
  const at = (moment: number) => wall(new Date(moment).toISOString()).slice(11)
  return (
    <div role="alert" className="flex items-center gap-3 bg-alarm-wash px-4 py-2.5 text-alarm sm:px-6">
      <Lamp light="alarm" />
      <p>
        {away === undefined ? (
          <>
            <strong>No connection to the service</strong> since {at(since)}.
          </>
        ) : (
          <>
            <strong>The service’s database is away</strong> since {at(away)}. Nothing can be changed until it is back.
          </>
        )}{' '}
        What you see is as of {at(since)}. The console tries again by itself.
      </p>
    </div>
  )
}
