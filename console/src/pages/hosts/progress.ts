// How a host is, and how far a report has come, in a lamp and few words.
import type { Host, HostReport, Policy, Uplink } from '../../api/types'
import type { Light } from '../../parts/lamp'
import { lasting } from '../../parts/text'

/** The lamp and the words of a host's state. */
export function state(h: Host): { light: Light; word: string } {
  switch (h.status) {
    case 'waiting-for-first-report':
      return { light: 'none', word: 'waiting for the first report' }
    case 'silent':
      return { light: 'alarm', word: 'silent' }
    case 'unreachable':
      return { light: 'alarm', word: 'unreachable from outside' }
    case 'flapping':
      return { light: 'settling', word: 'flapping: the next change is held' }
    case 'held':
      return { light: 'settling', word: 'a change is held' }
  }
  if (h.last?.outcome === 'refused') return progress(h.last)
  return { light: 'settled', word: 'reporting' }
}

/** The lamp and the words of an uplink's state. */
export function uplinkState(u: Uplink): { light: Light; word: string } {
  if (u.refused) return { light: 'alarm', word: 'refused' }
  if (!u.seen_at) return { light: 'none', word: 'never reported' }
  if (!u.reports) return { light: 'alarm', word: 'silent' }
  if (u.translated) return { light: 'alarm', word: 'unreachable from outside' }
  return { light: 'settled', word: 'reporting' }
}

export function progress(r: HostReport | null | undefined): { light: Light; word: string } {
  if (!r) return { light: 'none', word: 'waiting for a report' }
  if (r.outcome === 'refused') return { light: 'alarm', word: 'refused' }
  if (r.outcome === 'held') return { light: 'settling', word: 'held' }
  if (r.overtaken) return { light: 'none', word: 'overtaken by a newer one' }
  if (r.arrivals.length === 0) return { light: 'none', word: 'kept; the zone is at no provider yet' }
  if (r.arrivals.every((a) => a.visible_at)) return { light: 'settled', word: 'visible' }
  if (r.arrivals.some((a) => a.problem && !a.visible_at)) return { light: 'alarm', word: 'held up' }
  if (r.arrivals.every((a) => a.written_at)) return { light: 'settling', word: 'written, not visible yet' }
  return { light: 'settling', word: 'accepted, not written yet' }
}

/** How long after the report something happened. */
export function after(reported: string, at: string | null | undefined): string {
  if (!at) return 'not yet'
  const ms = Date.parse(at) - Date.parse(reported)
  return ms < 10_000 ? `${ms} ms` : `${Math.round(ms / 1000)} s`
}

/** What a policy says, in terms and sentences. */
export function rules(p: Policy): [string, string][] {
  const seconds = (n: number | null | undefined) => lasting(n ?? 0)
  const list: [string, string][] = [
    ['Accepts', p.allowed_networks?.length ? `addresses of ${p.allowed_networks.join(', ')}` : 'all public addresses'],
    ['Hold-down', p.hold_down ? `${seconds(p.hold_down)} for the third quick change, up to ${seconds(p.max_hold_down)}` : 'none'],
    ['Failover', `after ${seconds(p.failover)} without a report`],
  ]
  if (p.min_interval) list.push(['Least interval', seconds(p.min_interval)])
  if (p.second_source && p.second_source !== 'none') list.push(['Confirmed by', p.second_source === 'peer' ? 'the address that the report comes from' : 'a report with another token'])
  const then: Record<string, string> = { keep: 'the last address stays', remove: 'its address records are removed', fallback: `${[p.fallback_v4, p.fallback_v6].filter(Boolean).join(' and ')} instead` }
  list.push(['Silence', p.silence ? `silent after ${seconds(p.silence)} without a report; then ${then[p.on_silence ?? 'keep']}` : 'never silent'])
  return list
}
