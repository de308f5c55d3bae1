// What to do, as the console says it: where the service names a command, the page or button that does the same.

export type Part = { text: string; to?: string }

type Rule = { command: RegExp; say: string; to?: (zone: string) => string }

const domain = (view: string) => (zone: string) => `/domains/${encodeURIComponent(zone)}${view}`

/** Each command that a remedy may name, with its options, and where the console has it. The first that fits counts. */
const rules: Rule[] = [
  { command: /beacon delegate\b/, say: 'open Delegation', to: domain('/delegation') },
  { command: /beacon (sync|diff|drift)\b/, say: 'open Changes', to: domain('/changes') },
  { command: /beacon (draft|record)( \w+)?\b/, say: 'open Records', to: domain('/records') },
  { command: /beacon zone (history|restore)\b/, say: 'open History', to: domain('/history') },
  { command: /beacon zone settings\b/, say: 'open Changes, then “Change settings”', to: domain('/changes') },
  { command: /beacon zone detach\b/, say: 'open Records, then “Detach from file…”', to: domain('/records') },
  { command: /beacon (check|watch|zone show)\b/, say: 'open Chain', to: domain('') },
  { command: /beacon registrar unlock\b/, say: 'open Delegation, then “Lift lock”', to: domain('/delegation') },
  { command: /beacon (provider|registrar)( \w+)?\b/, say: 'open Accounts', to: () => '/accounts' },
  { command: /beacon host( \w+)?\b/, say: 'open Dynamic hosts', to: () => '/hosts' },
  { command: /beacon apply\b/, say: 'open Apply', to: () => '/apply' },
  { command: /beacon logbook\b/, say: 'open the Logbook', to: () => '/logbook' },
  { command: /allow it: --allow [a-z-]+|--allow [a-z-]+/, say: 'tick “Allow it”' },
  { command: /--override [a-z-]+( --reason TEXT)?/, say: 'override it with a reason' },
  { command: /--agree \w+/, say: 'press “Agree to these differences”' },
]

/** A command ends at its names and options: what follows is the sentence's. */
const rest = /^(?: (?:--[a-z-]+(?: [A-Z]+(?:=[A-Z]+)?)?|[A-Z]+|[\w*-]+(?:\.[\w-]+)+))*/

/** Splits a remedy into its texts and links. zone is the domain that it is about; empty where there is none. */
export function remedyParts(text: string, zone: string): Part[] {
  const parts: Part[] = []
  for (let left = text; left !== ''; ) {
    const found = rules
      .map((rule) => ({ rule, at: rule.command.exec(left) }))
      .filter((f) => f.at !== null)
      .sort((a, b) => a.at!.index - b.at!.index)[0]
    if (!found) {
      parts.push({ text: left })
      break
    }
    const { rule, at } = found
    const end = at!.index + at![0].length
    const tail = rule.command.source.startsWith('beacon') ? (rest.exec(left.slice(end))?.[0].length ?? 0) : 0
    if (at!.index > 0) parts.push({ text: left.slice(0, at!.index) })
    const named = /[\w-]+(?:\.[\w-]+)+/.exec(left.slice(end, end + tail))?.[0] ?? zone
    const to = rule.to && (named !== '' || !rule.to('x').startsWith('/domains/')) ? rule.to(named) : undefined
    parts.push({ text: rule.say, ...(to && { to }) })
    left = left.slice(end + tail)
  }
  return parts
}
