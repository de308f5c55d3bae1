// Finds domains, records, pages and actions by a few letters (Ctrl-K), and goes there.
import { Dialog } from 'radix-ui'
import { type KeyboardEvent, type ReactNode, useEffect, useId, useState } from 'react'
import { useNavigate } from 'react-router'
import { post } from '../api/client'
import { useDomains, useSearchPages } from '../api/hooks'
import { Lamp, standing } from './lamp'
import { plain, relative, shown } from './text'
import { useToast } from './toast'

/** Something that can be chosen. */
type Way = { key: string; group: string; say: ReactNode; aside?: string; go: () => void }

export function Palette({ close }: { close: () => void }) {
  const [text, setText] = useState('')
  const [at, setAt] = useState(0)
  const wanted = text.trim().toLowerCase()
  const ways = useWays(wanted)
  const id = useId()
  const chosen = Math.min(at, ways.length - 1)
  const choose = (w: Way) => {
    close()
    w.go()
  }
  useEffect(() => {
    document.getElementById(`${id}-${chosen}`)?.scrollIntoView({ block: 'nearest' })
  }, [id, chosen])

  function walk(e: KeyboardEvent) {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key]
    if (step !== undefined && ways.length > 0) {
      e.preventDefault()
      setAt((chosen + step + ways.length) % ways.length)
    }
    if (e.key === 'Enter' && ways[chosen]) {
      e.preventDefault()
      choose(ways[chosen])
    }
  }
  return (
    <Dialog.Root open onOpenChange={(open) => !open && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-deep-950/60" />
        <Dialog.Content aria-describedby={undefined} className="plate fixed top-[12dvh] left-1/2 z-50 w-[min(38rem,calc(100vw-1.5rem))] -translate-x-1/2 overflow-hidden">
          <Dialog.Title className="sr-only">Find domains, records, pages and actions</Dialog.Title>
          <input
            value={text}
            onChange={(e) => (setText(e.target.value), setAt(0))}
            onKeyDown={walk}
            autoFocus
            role="combobox"
            aria-label="Find domains, records, pages and actions"
            aria-expanded="true"
            aria-controls={id}
            aria-activedescendant={ways.length > 0 ? `${id}-${chosen}` : undefined}
            spellCheck={false}
            autoCapitalize="none"
            placeholder="Domain, address, page or action"
            className="w-full border-b border-line bg-surface px-4 py-3 text-lead outline-none"
          />
          <ul id={id} role="listbox" aria-label="What was found" className="max-h-[60dvh] overflow-y-auto p-2">
            {ways.map((w, i) => (
              <li
                key={w.key}
                id={`${id}-${i}`}
                role="option"
                aria-selected={i === chosen}
                onClick={() => choose(w)}
                onPointerMove={() => i !== chosen && setAt(i)}
                className={`cursor-pointer rounded-key px-2.5 py-2 ${i === chosen ? 'bg-sunken' : ''}`}
              >
                {w.group !== ways[i - 1]?.group && <span className="mb-1 block text-fine font-semibold text-soft">{w.group}</span>}
                <span className="flex items-center gap-2.5">
                  {w.say}
                  {w.aside && <span className="text-fine text-soft">{w.aside}</span>}
                </span>
              </li>
            ))}
          </ul>
          {ways.length === 0 && <p className="px-4 pb-4 text-soft">Nothing found.</p>}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

const pages = [
  { to: '/', label: 'Today', words: 'start home' },
  { to: '/domains', label: 'Domains', words: 'list' },
  { to: '/search', label: 'Search records', words: 'replace bulk' },
  { to: '/hosts', label: 'Dynamic hosts', words: 'address token' },
  { to: '/accounts', label: 'Accounts', words: 'provider registrar credential' },
  { to: '/add', label: 'Add a domain', words: 'find records gather zone file' },
  { to: '/apply', label: 'Apply a definition', words: 'definition file' },
  { to: '/users', label: 'Users', words: 'password session people sign' },
  { to: '/tokens', label: 'Tokens', words: 'machine script key secret' },
  { to: '/logbook', label: 'Logbook', words: 'history who' },
  { to: '/findings', label: 'Findings', words: 'codes explain' },
]

const actions = [
  { to: '/tokens', label: 'Add token', words: 'machine script' },
  { to: '/accounts?connect', label: 'Connect an account', words: 'provider registrar add' },
  { to: '/hosts?add', label: 'Add dynamic host', words: 'token address' },
  { to: '/hosts?add-location', label: 'Add location', words: 'uplink token address' },
]

/** How many of a kind are shown. */
const most = 6

/** Everything that fits what was typed: domains first, then records, actions and pages. */
function useWays(wanted: string): Way[] {
  const go = useNavigate()
  const say = useToast()
  const domains = useDomains({ verdict: null, finding: null, name: wanted }).data?.pages[0]?.items.filter((d) => d.name.includes(wanted)).slice(0, most) ?? [] // those before may still be shown
  const records = useSearchPages({ text: wanted.length > 2 ? wanted : '', type: '' }).data?.pages[0]?.items.slice(0, most) ?? []
  const fits = (o: { label: string; words: string }) => `${o.label} ${o.words}`.toLowerCase().includes(wanted)
  const ways: Way[] = domains.map((d) => ({
    key: 'domain ' + d.name,
    group: 'Domains',
    say: (
      <>
        <Lamp light={standing(d.verdict).light} size={16} />
        <span className="flex-1 wrap-anywhere">{shown(plain(d.name))}</span>
      </>
    ),
    aside: standing(d.verdict).word,
    go: () => void go(`/domains/${encodeURIComponent(plain(d.name))}`),
  }))
  records.forEach((h, i) =>
    ways.push({
      key: `record ${i} ${h.zone}`,
      group: 'Records',
      say: (
        <span className="data flex-1 wrap-anywhere">
          {relative(h.record.name, h.zone)} {h.record.type} {h.record.data}
        </span>
      ),
      aside: plain(h.zone),
      go: () => void go(`/domains/${encodeURIComponent(plain(h.zone))}/records`),
    }),
  )
  const action = (label: string, run: () => void) => ways.push({ key: label, group: 'Actions', say: <span className="flex-1">{label}</span>, go: run })
  const best = wanted !== '' && domains[0] ? plain(domains[0].name) : ''
  if (best) {
    action(`Check ${best} now`, () => {
      say(`Checking ${best} …`)
      post('/domains/{name}/checks', { name: best }, undefined).then((r) => say(`${best}: ${standing(r.verdict).word.toLowerCase()}.`), (e: Error) => say(e.message))
    })
    action(`Edit records of ${best}`, () => void go(`/domains/${encodeURIComponent(best)}/records`))
  }
  if (fits({ label: 'Check all domains', words: 'brief' }))
    action('Check all domains (brief)', () => {
      post('/brief-checks', {}, undefined).then(() => say('The brief check of all domains has started.'), (e: Error) => say(e.message))
    })
  actions.filter(fits).forEach((a) => action(a.label, () => void go(a.to)))
  pages.filter(fits).forEach((p) => ways.push({ key: p.to, group: 'Pages', say: <span className="flex-1">{p.label}</span>, go: () => void go(p.to) }))
  return ways
}
