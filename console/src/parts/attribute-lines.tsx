// Declared attributes of record sets that become others, a line for each.
import type { components } from '../api/schema'

/** bare leaves the set out, where it is said already. */
export function AttributeLines({ list, bare = false }: { list: components['schemas']['AttributeChange'][]; bare?: boolean }) {
  if (list.length === 0) return null
  return (
    <ul className="grid gap-1">
      {list.map((a) => (
        <li key={a.set + a.name} className="data text-fine">
          {bare ? '' : `~ ${a.set} `}
          {a.name}: {value(a.before)} → {value(a.after)}
        </li>
      ))}
    </ul>
  )
}

const value = (text: string) => text || 'as the provider has it'
