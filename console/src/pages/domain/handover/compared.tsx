// What the two sides answer differently, and agreeing to it.
import { Link } from 'react-router'
import { useHandoverWord } from '../../../api/handovers'
import type { Handover } from '../../../api/types'
import { Key, Plate, Trouble } from '../../../parts/kit'
import { count, relative } from '../../../parts/text'

const kinds: Record<string, string> = { lost: 'missing on the new side', added: 'only on the new side', changed: 'other data', unheard: 'not answered' }

export function Compared({ h, name }: { h: Handover; name: string }) {
  const word = useHandoverWord(name)
  const { names, differences, digest, agreed } = h.compared
  if (names === 0) return null
  const open = differences.filter((d) => d.kind !== 'ttl')
  return (
    <Plate title="Both sides" aside={`${count(names, 'name and type').replace('name and types', 'names and types')} asked`}>
      {h.later.length > 0 && (
        <div className="mb-3">
          <p>Proposed in the draft once no cache asks the old nameservers:</p>
          {h.later.map((set) => (
            <p key={`${set.name} ${set.type}`} className="data wrap-anywhere">
              {relative(set.name, name)} {set.type} {set.data.join(', ')}
            </p>
          ))}
        </div>
      )}
      {open.length === 0 ? (
        <p>They answer the same.</p>
      ) : (
        <>
          <p>{open.length === 1 ? '1 of them is answered differently.' : `${open.length} of them are answered differently.`}</p>
          <div className="mt-3 overflow-x-auto" tabIndex={0} role="region" aria-label="Differences">
            <table className="w-full text-left">
              <thead>
                <tr className="border-b border-line text-fine text-soft">
                  {['Name', 'Type', 'Old', 'New'].map((t) => (
                    <th key={t} scope="col" className="py-1.5 pr-4 font-semibold">
                      {t}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {open.map((d) => (
                  <tr key={`${d.key.name} ${d.key.type}`} className="border-b border-line align-top last:border-0">
                    <th scope="row" className="data py-1.5 pr-4 font-semibold" title={kinds[d.kind] ?? d.kind}>
                      {relative(d.key.name, name)}
                    </th>
                    <td className="data py-1.5 pr-4">{d.key.type}</td>
                    <td className="data py-1.5 pr-4 wrap-anywhere">{d.old}</td>
                    <td className="data py-1.5 wrap-anywhere">{d.new}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          {agreed ? (
            <p className="mt-3 text-soft">A user agreed to these differences.</p>
          ) : (
            <div className="mt-3 flex flex-wrap items-center gap-x-4 gap-y-2">
              <Key busy={word.isPending} onClick={() => word.mutate({ agree: digest })}>
                Agree to these differences
              </Key>
              <Link className="link" to={`/domains/${encodeURIComponent(name)}/records`}>
                Change the records
              </Link>
              {!h.from && h.old.length > 0 && (
                <Link className="link" to={`/add?zone=${encodeURIComponent(name)}&moving=1`}>
                  Find what the old nameservers serve now
                </Link>
              )}
            </div>
          )}
          {word.error && <Trouble error={word.error} />}
        </>
      )}
    </Plate>
  )
}
