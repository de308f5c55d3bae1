// What the registrars hold that is not managed here: the natural place to begin.
import { Link } from 'react-router'
import { useAccounts, useRegistrations } from '../../api/hooks'
import { Plate, Shown } from '../../parts/kit'
import { plain } from '../../parts/text'

/** How many are listed of one registrar. */
const listed = 100

export function AtRegistrars() {
  const accounts = useAccounts('registrar')
  return accounts.data?.items.map((a) => <AtRegistrar key={a.name} account={a.name} />)
}

function AtRegistrar({ account }: { account: string }) {
  const query = useRegistrations(account)
  const items = query.data?.items.filter((r) => !r.managed) ?? []
  if (query.data && items.length === 0) return null
  return (
    <Plate className="mt-6" title={`Registered at ${account}, not managed here`}>
      <Shown query={query} rows={1}>
        {() => (
          <>
            <ul className="divide-y divide-line">
              {items.slice(0, listed).map((r) => (
                <li key={r.name} className="flex flex-wrap items-center justify-between gap-3 py-2.5">
                  <div className="min-w-0">
                    <p className="font-semibold wrap-anywhere">{plain(r.name)}</p>
                    <p className="data text-soft">{r.active.map(plain).join(', ')}</p>
                  </div>
                  <Link
                    to={`/add?zone=${encodeURIComponent(plain(r.name))}`}
                    className="inline-flex min-h-10 items-center rounded-key border border-line-strong px-4 font-semibold hover:border-accent hover:text-accent"
                  >
                    Add domain<span className="sr-only"> {plain(r.name)}</span>
                  </Link>
                </li>
              ))}
            </ul>
            {items.length > listed && <p className="pt-2 text-soft">And {items.length - listed} more. All of them: beacon registrar domains {account}</p>}
          </>
        )}
      </Shown>
    </Plate>
  )
}
