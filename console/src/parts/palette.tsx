// Finds domains, records, pages and actions by a few letters (Ctrl-K), and goes there.
import { Command } from 'cmdk'
import { Dialog } from 'radix-ui'
import { type ReactNode, useDeferredValue, useState } from 'react'
import { useNavigate } from 'react-router'
import { useCheck, useDomains, useSearchPages, useStartBriefCheck } from '../api/hooks'
import { Lamp, standing } from './lamp'
import { plain, relative, shown } from './text'
import { useToast } from './toast'

const pages = [
  { to: '/', label: 'Today', words: 'start home' },
  { to: '/domains', label: 'Domains', words: 'list' },
  { to: '/search', label: 'Search records', words: 'replace bulk' },
  { to: '/hosts', label: 'Dynamic hosts', words: 'address token' },
  { to: '/accounts', label: 'Accounts', words: 'provider registrar credential' },
  { to: '/apply', label: 'Apply a definition', words: 'add domain zone file' },
  { to: '/logbook', label: 'Logbook', words: 'history who' },
  { to: '/findings', label: 'Findings', words: 'codes explain' },
]

export function Palette({ close }: { close: () => void }) {
  const [text, setText] = useState('')
  const wanted = useDeferredValue(text.trim().toLowerCase())
  return (
    <Dialog.Root open onOpenChange={(open) => !open && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-deep-950/60" />
        <Dialog.Content aria-describedby={undefined} className="plate fixed top-[12dvh] left-1/2 z-50 w-[min(38rem,calc(100vw-1.5rem))] -translate-x-1/2 overflow-hidden">
          <Dialog.Title className="sr-only">Find domains, records, pages and actions</Dialog.Title>
          <Command shouldFilter={false} label="Find domains, records, pages and actions">
            <Command.Input value={text} onValueChange={setText} autoFocus placeholder="Domain, address, page or action" className="w-full border-b border-line bg-surface px-4 py-3 text-lead outline-none" />
            <Command.List className="max-h-[60dvh] overflow-y-auto p-2">
              <Command.Empty className="p-3 text-soft">Nothing found.</Command.Empty>
              <Found wanted={wanted} close={close} />
            </Command.List>
          </Command>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

const heading = '**:[[cmdk-group-heading]]:px-2 **:[[cmdk-group-heading]]:pt-2 **:[[cmdk-group-heading]]:text-fine **:[[cmdk-group-heading]]:font-semibold **:[[cmdk-group-heading]]:text-soft'

/** How many of a kind are shown. */
const most = 6

function Found({ wanted, close }: { wanted: string; close: () => void }) {
  const go = useNavigate()
  const to = (path: string) => () => (close(), void go(path))
  const domains = useDomains({ verdict: null, finding: null, name: wanted }).data?.pages[0]?.items.slice(0, most) ?? []
  const records = useSearchPages({ text: wanted.length > 2 ? wanted : '', type: '' }).data?.pages[0]?.items.slice(0, most) ?? []
  const fits = (label: string, words: string) => `${label} ${words}`.toLowerCase().includes(wanted)
  const best = wanted !== '' ? domains[0] : undefined
  return (
    <>
      {domains.length > 0 && (
        <Command.Group heading="Domains" className={heading}>
          {domains.map((d) => (
            <Item key={d.name} value={'domain ' + d.name} onSelect={to(`/domains/${encodeURIComponent(plain(d.name))}`)}>
              <Lamp light={standing(d.verdict).light} size={16} />
              <span className="flex-1 wrap-anywhere">{shown(plain(d.name))}</span>
              <span className="text-fine text-soft">{standing(d.verdict).word}</span>
            </Item>
          ))}
        </Command.Group>
      )}
      {records.length > 0 && (
        <Command.Group heading="Records" className={heading}>
          {records.map((h, i) => (
            <Item key={i} value={`record ${h.zone} ${i}`} onSelect={to(`/domains/${encodeURIComponent(plain(h.zone))}/records`)}>
              <span className="data flex-1 wrap-anywhere">
                {relative(h.record.name, h.zone)} {h.record.type} {h.record.data}
              </span>
              <span className="text-fine text-soft">{plain(h.zone)}</span>
            </Item>
          ))}
        </Command.Group>
      )}
      <Command.Group heading="Actions" className={heading}>
        {best && <CheckNow name={plain(best.name)} close={close} />}
        {best && fits('Show records edit', plain(best.name)) && (
          <Item value="records of" onSelect={to(`/domains/${encodeURIComponent(plain(best.name))}/records`)}>
            Edit records of {plain(best.name)}
          </Item>
        )}
        {fits('Check all domains', 'brief') && <CheckAll close={close} />}
        {fits('Connect an account', 'provider registrar add') && (
          <Item value="connect" onSelect={to('/accounts?connect')}>
            Connect an account
          </Item>
        )}
        {fits('Add dynamic host', 'token address') && (
          <Item value="add host" onSelect={to('/hosts?add')}>
            Add dynamic host
          </Item>
        )}
      </Command.Group>
      <Command.Group heading="Pages" className={heading}>
        {pages
          .filter((p) => fits(p.label, p.words))
          .map((p) => (
            <Item key={p.to} value={'page ' + p.to} onSelect={to(p.to)}>
              {p.label}
            </Item>
          ))}
      </Command.Group>
    </>
  )
}

function CheckNow({ name, close }: { name: string; close: () => void }) {
  const check = useCheck(name)
  const say = useToast()
  return (
    <Item
      value="check now"
      onSelect={() => {
        close()
        say(`Checking ${name} …`)
        check.mutateAsync().then((r) => say(`${name}: ${standing(r.verdict).word.toLowerCase()}.`), (e: Error) => say(e.message))
      }}
    >
      Check {name} now
    </Item>
  )
}

function CheckAll({ close }: { close: () => void }) {
  const check = useStartBriefCheck()
  const say = useToast()
  return (
    <Item
      value="check all"
      onSelect={() => {
        close()
        check.mutateAsync().then(() => say('The brief check of all domains has started.'), (e: Error) => say(e.message))
      }}
    >
      Check all domains (brief)
    </Item>
  )
}

function Item({ value, onSelect, children }: { value: string; onSelect: () => void; children: ReactNode }) {
  return (
    <Command.Item value={value} onSelect={onSelect} className="flex cursor-pointer items-center gap-2.5 rounded-key px-2.5 py-2 data-[selected=true]:bg-sunken">
      {children}
    </Command.Item>
  )
}
