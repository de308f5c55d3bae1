// What plots are drawn from.
import type { TodaySample } from '../../api/types'

export const tones: [state: string, colour: string][] = [
  ['settled', 'var(--color-settled)'],
  ['settling', 'var(--color-settling)'],
  ['ready-to-move', 'var(--color-accent)'],
  ['undelegated', 'var(--color-line-strong)'],
  ['unknown', 'var(--color-unknown)'],
  ['needs-action', 'var(--color-alarm)'],
]

type Point = { at: number; changes: number; syncs: number; sync?: number; check?: number } & Record<string, number | undefined>

/** At most so many points are drawn; of more, neighbours are put together. */
const most = 120

export function points(samples: TodaySample[]): Point[] {
  const size = Math.max(1, Math.ceil(samples.length / most))
  const list: Point[] = []
  for (let i = 0; i < samples.length; i += size) {
    const part = samples.slice(i, i + size)
    const last = part.at(-1)!
    const mean = (of: (s: TodaySample) => number | null) => {
      const known = part.map(of).filter((v): v is number => v !== null)
      return known.length === 0 ? undefined : known.reduce((a, b) => a + b, 0) / known.length / 1000
    }
    list.push({
      ...Object.fromEntries(tones.map(([state]) => [state, last.domains[state] ?? 0])),
      at: Date.parse(last.at),
      changes: part.reduce((sum, s) => sum + s.revisions, 0),
      syncs: part.reduce((sum, s) => sum + s.syncs, 0),
      sync: mean((s) => s.sync_ms),
      check: mean((s) => s.check_ms),
    })
  }
  return list
}
