// How names, times and spans are written, and where two names differ.

/** A name without its final dot. */
export const plain = (name: string) => (name === '.' ? name : name.replace(/\.$/, ''))

/** A name within its zone: @ for the apex. A-labels are shown as people write them. */
export function relative(name: string, zone: string): string {
  const [n, z] = [plain(name), plain(zone)]
  if (n === z) return '@'
  return shown(n.endsWith('.' + z) ? n.slice(0, -z.length - 1) : n)
}

/** A name with its A-labels as U-labels (RFC 5891); what is no valid A-label stays as it is. */
export const shown = (name: string) =>
  name.includes('xn--') ? name.split('.').map((label) => (label.startsWith('xn--') ? (decoded(label.slice(4)) ?? label) : label)).join('.') : name

/** What Punycode stands for (RFC 3492 section 6.2), or nothing where it is none. */
function decoded(code: string): string | undefined {
  const end = code.lastIndexOf('-')
  const out = end > 0 ? [...code.slice(0, end)].map((c) => c.codePointAt(0)!) : []
  let [n, i, bias] = [128, 0, 72]
  for (let at = end > 0 ? end + 1 : 0; at < code.length; ) {
    const from = i
    for (let weight = 1, k = 36; ; k += 36) {
      const digit = at < code.length ? 'abcdefghijklmnopqrstuvwxyz0123456789'.indexOf(code[at++]!.toLowerCase()) : -1
      if (digit < 0) return undefined
      i += digit * weight
      const least = k <= bias ? 1 : k >= bias + 26 ? 26 : k - bias
      if (digit < least) break
      weight *= 36 - least
      if (weight > 0xffffffff) return undefined
    }
    let delta = from === 0 ? Math.floor(i / 700) : (i - from) >> 1
    const size = out.length + 1
    delta += Math.floor(delta / size)
    let k = 0
    for (; delta > 455; k += 36) delta = Math.floor(delta / 35)
    bias = k + Math.floor((36 * delta) / (delta + 38))
    n += Math.floor(i / size)
    i %= size
    if (n > 0x10ffff) return undefined
    out.splice(i++, 0, n)
  }
  return String.fromCodePoint(...out)
}

const two = (n: number) => String(n).padStart(2, '0')

/** A span of milliseconds in two units at most. */
export function span(ms: number): string {
  const s = Math.max(0, Math.round(ms / 1000))
  if (s < 60) return `${s} s`
  if (s < 3600) return `${Math.floor(s / 60)} min ${two(s % 60)} s`
  if (s < 172_800) return `${Math.floor(s / 3600)} h ${two(Math.floor((s % 3600) / 60))} min`
  return `${Math.floor(s / 86_400)} days ${Math.floor((s % 86_400) / 3600)} h`
}

/** A set time as people say it: 30 days, 1 h 30 min. */
export function lasting(seconds: number): string {
  const parts: string[] = []
  for (const [unit, n] of [['days', 86_400], ['h', 3600], ['min', 60], ['s', 1]] as const) {
    const whole = Math.floor(seconds / n)
    seconds -= whole * n
    if (whole > 0) parts.push(`${whole} ${unit === 'days' && whole === 1 ? 'day' : unit}`)
  }
  return parts.join(' ') || '0 s'
}

/** A moment of world time, in UTC, with the date where it is not that of now. */
export function moment(at: number, now: number): string {
  const iso = new Date(at).toISOString()
  return iso.slice(0, 10) === new Date(now).toISOString().slice(0, 10) ? iso.slice(11, 19) : `${iso.slice(0, 10)} ${iso.slice(11, 19)}`
}

/** A wall time as people here read it. */
export function wall(text: string): string {
  const d = new Date(text)
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`
}

/** A number with its thousands apart: 12,345. */
export const number = (n: number) => n.toLocaleString('en')

export const count = (n: number, noun: string) => (n === 1 ? `1 ${noun}` : `${n} ${noun}s`)

/** Steps that make one text the other (Levenshtein). */
function distance(a: string, b: string): number {
  let row = Array.from({ length: b.length + 1 }, (_, i) => i)
  for (let i = 1; i <= a.length; i++) {
    const next = [i]
    for (let j = 1; j <= b.length; j++)
      next[j] = Math.min(next[j - 1]! + 1, row[j]! + 1, row[j - 1]! + (a[i - 1] === b[j - 1] ? 0 : 1))
    row = next
  }
  return row[b.length]!
}

/** Whether a name resembles none of the wanted ones: then marking characters would say nothing. */
export function another(name: string, wanted: string[]): boolean {
  return wanted.length > 0 && wanted.every((w) => distance(plain(name), plain(w)) > 3)
}

export type Piece = { text: string; differs: boolean }

/** A name in pieces, those that differ from the nearest wanted name told apart. */
export function marked(name: string, wanted: string[]): Piece[] {
  const own = plain(name)
  const others = wanted.map(plain)
  if (others.length === 0 || others.includes(own)) return [{ text: own, differs: false }]
  const near = others.reduce((best, o) => (distance(own, o) < distance(own, best) ? o : best))
  let start = 0
  while (start < own.length && own[start] === near[start]) start++
  let end = 0
  while (end < own.length - start && end < near.length - start && own[own.length - 1 - end] === near[near.length - 1 - end]) end++
  const middle = own.slice(start, own.length - end)
  // Where only something is missing, the place is marked by the characters around it.
  if (middle === '') {
    const from = Math.max(0, start - 1)
    return pieces(own.slice(0, from), own.slice(from, start + 1), own.slice(start + 1))
  }
  return pieces(own.slice(0, start), middle, own.slice(own.length - end))
}

const pieces = (before: string, middle: string, after: string): Piece[] =>
  [
    { text: before, differs: false },
    { text: middle, differs: true },
    { text: after, differs: false },
  ].filter((p) => p.text !== '')
