// How far a report has come, in a lamp and few words.
import type { HostReport } from '../../api/types'
import type { Light } from '../../parts/lamp'

export function progress(r: HostReport | null | undefined): { light: Light; word: string } {
  if (!r) return { light: 'none', word: 'waiting for a report' }
  if (r.outcome === 'refused') return { light: 'alarm', word: 'refused' }
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
