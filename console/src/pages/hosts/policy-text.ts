// A policy as it is typed: text in each field, and nothing where it is inherited.
import * as z from 'zod/mini'
import type { Policy } from '../../api/types'

const units = { s: 1, m: 60, h: 3600, d: 86_400, w: 604_800 }

/** Seconds as they are typed: 30s, 15m, 1h30m. */
export function short(seconds: number): string {
  if (seconds === 0) return '0s'
  let text = ''
  for (const [unit, n] of Object.entries(units).reverse()) {
    if (unit === 'w' || seconds < n) continue
    text += Math.floor(seconds / n) + unit
    seconds %= n
  }
  return text
}

/** The seconds that a text such as 1h30m says; a bare number is seconds. */
export function secondsOf(text: string): number {
  if (/^\d+$/.test(text)) return Number(text)
  return [...text.matchAll(/(\d+)([smhdw])/g)].reduce((sum, [, n, unit]) => sum + Number(n) * units[unit as keyof typeof units], 0)
}

const time = z.string().check(z.trim(), z.toLowerCase(), z.regex(/^(\d{1,9}|(\d{1,9}[smhdw])+)?$/, 'Give a time such as 30s, 15m, 2h or 1d, or leave it empty to inherit it.'))
const v4 = z.string().check(z.trim(), z.regex(/^(\d{1,3}(\.\d{1,3}){3})?$/, 'Give an IPv4 address, such as 192.0.2.7.'))
const v6 = z.string().check(z.trim(), z.regex(/^([0-9a-fA-F:]*:[0-9a-fA-F:.]*)?$/, 'Give an IPv6 address, such as 2001:db8::7.'))

export const typed = z
  .object({
    networks: z.string().check(z.trim(), z.regex(/^(public|[0-9a-fA-F.:]+\/\d+([ ,]+[0-9a-fA-F.:]+\/\d+)*)?$/, 'Give networks such as 192.0.2.0/24, or public for every public address.')),
    second_source: z.string(),
    min_interval: time,
    hold_down: time,
    max_hold_down: time,
    failover: time,
    silence: time,
    on_silence: z.string(),
    fallback_v4: v4,
    fallback_v6: v6,
  })
  .check(z.refine((p) => p.on_silence !== 'fallback' || p.fallback_v4 || p.fallback_v6, { path: ['fallback_v4'], error: 'Give the address that a silent host has.' }))

export type Typed = z.infer<typeof typed>

const sources: Record<string, string> = { none: 'nothing', peer: 'the address that the report comes from', token: 'a report with another token' }
const ways: Record<string, string> = { keep: 'the last address stays', remove: 'its address records are removed', fallback: 'a fallback address takes its place' }

/** What a policy sets, for the fields of the form. */
export const texts = (p: Policy): Typed => ({
  networks: p.allowed_networks ? p.allowed_networks.join(', ') || 'public' : '',
  second_source: p.second_source ?? '',
  min_interval: p.min_interval == null ? '' : short(p.min_interval),
  hold_down: p.hold_down == null ? '' : short(p.hold_down),
  max_hold_down: p.max_hold_down == null ? '' : short(p.max_hold_down),
  failover: p.failover == null ? '' : short(p.failover),
  silence: p.silence == null ? '' : short(p.silence),
  on_silence: p.on_silence ?? '',
  fallback_v4: p.fallback_v4 || '',
  fallback_v6: p.fallback_v6 || '',
})

/** The policy that the fields say; what is empty is not set. */
export function policyOf(t: Typed): Policy {
  const p: Policy = {}
  if (t.networks) p.allowed_networks = t.networks === 'public' ? [] : t.networks.split(/[ ,]+/)
  if (t.second_source) p.second_source = t.second_source
  if (t.on_silence) p.on_silence = t.on_silence
  for (const name of ['min_interval', 'hold_down', 'max_hold_down', 'failover', 'silence'] as const) if (t[name]) p[name] = secondsOf(t[name])
  for (const name of ['fallback_v4', 'fallback_v6'] as const) if (t[name]) p[name] = t[name]
  return p
}

/** What a field shows while it is empty: what holds, unless that is set here itself. */
export function inherited(holds: Policy, own: Policy): Typed {
  const [all, set] = [texts({ ...holds, allowed_networks: holds.allowed_networks ?? [] }), texts(own)]
  for (const name of Object.keys(all) as (keyof Typed)[]) if (set[name]) all[name] = 'inherited'
  return all
}

export const sourceOptions = (holds: string) => choices(sources, holds)
export const wayOptions = (holds: string) => choices(ways, holds)

const choices = (of: Record<string, string>, holds: string) => [{ value: '', label: of[holds] ? `inherited: ${of[holds]}` : 'inherited' }, ...Object.entries(of).map(([value, label]) => ({ value, label }))]
