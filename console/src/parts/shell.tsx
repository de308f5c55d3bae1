// The frame around every page: where one can go, what time it is in the world, and whether the service is there.
import { DropdownMenu, ToggleGroup } from 'radix-ui'
import { lazy, Suspense, useEffect, useState } from 'react'
import { NavLink, Outlet, useNavigate } from 'react-router'
import { useConnection } from '../api/events'
import { useWorld } from '../api/clock'
import { useMe, useSignOut } from '../api/hooks'
import { Held } from './held'
import { Lamp } from './lamp'
import { Mark } from './mark'
import { type Choice, choices, useTheme } from './theme'
import { wall } from './text'

/** The pages, with the action that a user needs for each: somewhere, or for everything. */
const places: { to: string; label: string; needs?: string; everywhere?: string }[] = [
  { to: '/', label: 'Today' },
  { to: '/domains', label: 'Domains' },
  { to: '/handovers', label: 'Handovers' },
  { to: '/search', label: 'Search' },
  { to: '/hosts', label: 'Dynamic hosts' },
  { to: '/accounts', label: 'Accounts', everywhere: 'see' },
  { to: '/apply', label: 'Apply', needs: 'place' },
  { to: '/users', label: 'Users' },
  { to: '/tokens', label: 'Tokens' },
  { to: '/logbook', label: 'Logbook' },
]

function usePlaces() {
  const me = useMe().data
  return places.filter((p) => (!p.needs || me?.actions?.includes(p.needs)) && (!p.everywhere || me?.everywhere?.includes(p.everywhere)))
}

const load = async () => ({ default: (await import('./palette')).Palette })
const Palette = lazy(load)

export function Shell() {
  const [finding, open] = useState(false)
  useEffect(() => {
    const pressed = (e: KeyboardEvent) => {
      if (e.key.toLowerCase() !== 'k' || !(e.ctrlKey || e.metaKey) || e.shiftKey || e.altKey) return
      e.preventDefault()
      open((before) => !before)
    }
    document.addEventListener('keydown', pressed)
    const early = setTimeout(() => void load(), 1000) // what is typed right after Ctrl-K would be lost
    return () => {
      clearTimeout(early)
      document.removeEventListener('keydown', pressed)
    }
  }, [])
  return (
    <div className="min-h-dvh lg:grid lg:grid-cols-[13rem_1fr]">
      <a href="#content" className="sr-only focus:not-sr-only focus:fixed focus:top-2 focus:left-2 focus:z-10 focus:rounded-key focus:bg-surface focus:px-3 focus:py-2">
        Skip to the content
      </a>
      <header className="print:hidden bg-deep-900 text-deep-50 lg:sticky lg:top-0 lg:flex lg:h-dvh lg:flex-col">
        <div className="flex items-center gap-2.5 px-4 py-2.5 lg:py-3">
          <Mark size={34} />
          <span className="flex-1 text-lead font-semibold">Agile Beacon</span>
          <button type="button" aria-label="Find anything" onClick={() => open(true)} className="grid size-10 place-items-center rounded-key hover:bg-deep-800 lg:hidden">
            <Glass />
          </button>
          <Menu />
        </div>
        <button
          type="button"
          onClick={() => open(true)}
          className="mx-2 mb-1 hidden items-center gap-2 rounded-key border border-deep-600 px-3 py-2 text-left text-deep-100 hover:bg-deep-800 lg:flex"
        >
          <Glass />
          <span className="flex-1">Find</span>
          <kbd className="text-fine text-deep-200">Ctrl K</kbd>
        </button>
        <nav aria-label="Main" className="hidden gap-1 px-2 pb-2 lg:flex lg:flex-col lg:pt-1">
          {usePlaces().map((p) => (
            <NavLink
              key={p.to}
              to={p.to}
              end={p.to === '/'}
              className={({ isActive }) =>
                `rounded-key px-3 py-2 font-semibold ${isActive ? 'bg-deep-700 text-white shadow-[inset_3px_0_var(--color-lamp-400)]' : 'text-deep-100 hover:bg-deep-800'}`
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
      <Suspense>{finding && <Palette close={() => open(false)} />}</Suspense>
    </div>
  )
}

function Glass() {
  return (
    <svg width="18" height="18" viewBox="0 0 18 18" aria-hidden="true" fill="none" stroke="currentColor" strokeWidth="2" strokeLinecap="round">
      <circle cx="7.500" cy="7.500" r="5" />
      <path d="m11.500 11.500 4 4" />
    </svg>
  )
}

/** On a narrow screen the pages are in a menu that folds away. */
function Menu() {
  const go = useNavigate()
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className="min-h-10 rounded-key border border-deep-600 px-3 font-semibold hover:bg-deep-800 lg:hidden">Menu</DropdownMenu.Trigger>
      <DropdownMenu.Content align="end" sideOffset={6} className="plate z-30 min-w-48 p-1 text-ink">
        {usePlaces().map((p) => (
          <DropdownMenu.Item key={p.to} onSelect={() => void go(p.to)} className="cursor-pointer rounded-key px-3 py-2.5 font-semibold outline-none data-[highlighted]:bg-sunken">
            {p.label}
          </DropdownMenu.Item>
        ))}
      </DropdownMenu.Content>
    </DropdownMenu.Root>
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
      <p className="text-fine text-deep-200">{world && world.rate === 1 ? 'UTC' : 'Simulated time'}</p>
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
