// Lamps: states, by shape as well as by colour. A full disc is settled, a half one settling, a triangle
// wrong, an empty square nothing there, a broken ring not known.
import type { Verdict } from '../api/types'

export type Light = 'settled' | 'settling' | 'alarm' | 'none' | 'unknown'

const tones: Record<Light, string> = {
  settled: 'text-settled',
  settling: 'text-settling',
  alarm: 'text-alarm',
  none: 'text-soft',
  unknown: 'text-unknown',
}

export function Lamp({ light, size = 18 }: { light: Light; size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 20 20" aria-hidden="true" className={`${tones[light]} shrink-0`}>
      {light === 'settled' && (
        <>
          <circle cx="10" cy="10" r="8.500" fill="currentColor" />
          <path d="m6 10.300 2.800 2.800L14.200 7.500" fill="none" className="stroke-surface" strokeWidth="2.200" strokeLinecap="round" strokeLinejoin="round" />
        </>
      )}
      {light === 'settling' && (
        <>
          <circle cx="10" cy="10" r="8" fill="none" stroke="currentColor" strokeWidth="2" />
          <path d="M10 2a8 8 0 0 1 0 16z" fill="currentColor" className="sweep" />
        </>
      )}
      {light === 'alarm' && (
        <>
          <path d="M10 1.500 19 18H1z" fill="currentColor" stroke="currentColor" strokeLinejoin="round" />
          <path d="M10 7.500v5" className="stroke-surface" strokeWidth="2.200" strokeLinecap="round" />
          <circle cx="10" cy="15.300" r="1.200" className="fill-surface" />
        </>
      )}
      {light === 'none' && <rect x="2.500" y="2.500" width="15" height="15" rx="2" fill="none" stroke="currentColor" strokeWidth="2" />}
      {light === 'unknown' && <circle cx="10" cy="10" r="8" fill="none" stroke="currentColor" strokeWidth="2.400" strokeDasharray="4 2.300" />}
    </svg>
  )
}

/** The verdicts, the most urgent first; the empty one: not checked yet. */
export const urgentFirst = ['needs-action', 'ready-to-move', 'undelegated', 'unknown', 'settling', '', 'settled']

/** The words and the lamp of a verdict. */
export function standing(verdict: string): { light: Light; word: string; sentence: string } {
  switch (verdict as Verdict) {
    case 'settled':
      return { light: 'settled', word: 'Settled', sentence: 'Every cache that keeps to TTLs has the current answers.' }
    case 'settling':
      return { light: 'settling', word: 'Settling', sentence: 'A change is under way: some caches may still hold the old answers.' }
    case 'ready-to-move':
      return { light: 'none', word: 'Ready to move', sentence: 'What it has works; the desired nameservers wait for your first step.' }
    case 'needs-action':
      return { light: 'alarm', word: 'Needs action', sentence: 'Waiting will not fix this.' }
    case 'undelegated':
      return { light: 'none', word: 'Not delegated', sentence: 'The parent has no nameservers for it.' }
    case 'unknown':
      return { light: 'unknown', word: 'Check failed', sentence: 'The state of the domain is unknown.' }
  }
  return { light: 'none', word: 'Not checked yet', sentence: 'No check has been made yet.' }
}

const washes: Record<Light, string> = {
  settled: 'bg-settled-wash text-settled',
  settling: 'bg-settling-wash text-settling',
  alarm: 'bg-alarm-wash text-alarm',
  none: 'bg-sunken text-soft',
  unknown: 'bg-unknown-wash text-unknown',
}

/** A lamp with its word, on its wash. */
export function Tag({ light, children }: { light: Light; children: React.ReactNode }) {
  return (
    <span className={`inline-flex items-center gap-1.5 rounded-full px-2.5 py-0.5 text-fine font-semibold whitespace-nowrap ${washes[light]}`}>
      <Lamp light={light} size={14} />
      {children}
    </span>
  )
}
