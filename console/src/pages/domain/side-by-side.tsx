// A zone's placements beside one another: what each has, what it should have, and what was changed there by others.
import type { Difference } from '../../api/types'
import { type Light, Tag } from '../../parts/lamp'
import { count } from '../../parts/text'

function stateOf(d: Difference): { light: Light; word: string } {
  if (d.new_zone) return { light: 'none', word: 'not there yet' }
  if (d.conflicts.length > 0) return { light: 'alarm', word: 'conflict' }
  if (d.drift.length > 0) return { light: 'settling', word: 'changed elsewhere' }
  if (d.steps.length > 0) return { light: 'settling', word: 'pending' }
  return { light: 'settled', word: 'in sync' }
}

export function SideBySide({ list, zone }: { list: Difference[]; zone: string }) {
  if (list.length < 2) return null
  const alike = list.every((d) => stateOf(d).light === 'settled')
  return (
    <section aria-label={`Placements of ${zone}`} className="plate min-w-0 p-4">
      <h2 className="text-lead font-semibold">Served at {count(list.length, 'provider')}</h2>
      <p className="text-soft">{alike ? 'All of them have the desired records.' : 'They differ: clients may get different answers.'}</p>
      <div className="mt-3 overflow-x-auto" tabIndex={0} role="region" aria-label="Placements side by side">
        <table className="w-full text-left">
          <thead>
            <tr className="border-b border-line text-fine text-soft">
              {['Account', 'State', 'In sync', 'Pending', 'Changed elsewhere', 'Unsupported', 'Foreign'].map((h) => (
                <th key={h} scope="col" className="py-1.5 pr-4 font-semibold">
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {list.map((d) => {
              const { light, word } = stateOf(d)
              const unheld = d.notes.filter((n) => n.code === 'type-unsupported' || n.code === 'text-unsupported').length
              return (
                <tr key={d.account} className="border-b border-line last:border-0">
                  <th scope="row" className="py-2 pr-4 font-semibold">
                    {d.account}
                  </th>
                  <td className="pr-4">
                    <Tag light={light}>{word}</Tag>
                  </td>
                  {[d.in_sync, d.steps.length, d.drift.length + d.conflicts.length, unheld, d.foreign.length].map((n, i) => (
                    <td key={i} className="data pr-4">
                      {n || '–'}
                    </td>
                  ))}
                </tr>
              )
            })}
          </tbody>
        </table>
      </div>
    </section>
  )
}
