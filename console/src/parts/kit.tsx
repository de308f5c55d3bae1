// The few parts that every page is made of: plates, what loads, what is missing, what went wrong.
import type { UseQueryResult } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { Problem } from '../api/client'
import { Findings } from './findings'
import { Key } from './key'
import { Lamp } from './lamp'

export { Key }

export function Plate({ title, aside, children, className = '' }: { title?: ReactNode; aside?: ReactNode; children: ReactNode; className?: string }) {
  return (
    <section className={`plate p-4 sm:p-5 ${className}`}>
      {title && (
        <div className="mb-3 flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1">
          <h2 className="text-lead font-semibold">{title}</h2>
          {aside && <div className="text-fine text-soft">{aside}</div>}
        </div>
      )}
      {children}
    </section>
  )
}

export function PageHead({ title, children, lead }: { title: ReactNode; lead?: ReactNode; children?: ReactNode }) {
  return (
    <header className="mb-5 flex flex-wrap items-start justify-between gap-3">
      <div className="min-w-0">
        <h1 className="text-head font-semibold wrap-anywhere">{title}</h1>
        {lead && <p className="mt-1 max-w-2xl text-soft">{lead}</p>}
      </div>
      {children && <div className="flex flex-wrap gap-2">{children}</div>}
    </header>
  )
}

/** Keeps the place of what is on its way, so that nothing jumps when it arrives. */
export function Loading({ rows = 3, label = 'Loading' }: { rows?: number; label?: string }) {
  return (
    <div role="status" aria-label={label} className="grid gap-3">
      {Array.from({ length: rows }, (_, i) => (
        <div key={i} className="h-16 rounded-plate bg-sunken" />
      ))}
    </div>
  )
}

/** What went wrong, in the service's words, with everything that it found, and a way to try again. */
export function Trouble({ error, again }: { error: Error; again?: () => void }) {
  const p = error instanceof Problem ? error : undefined
  return (
    <div role="alert" className="plate border-alarm p-4">
      <div className="flex items-start gap-3">
        <Lamp light="alarm" />
        <div className="min-w-0 flex-1">
          <p className="font-semibold">{p?.title ?? 'Something went wrong'}</p>
          <p className="mt-0.5 wrap-anywhere">{error.message}</p>
          {p && p.faults.length > 0 && (
            <ol className="mt-3 grid gap-2">
              {p.faults.map((f, i) => (
                <li key={i} className="rounded-key bg-sunken p-2.5">
                  <p className="data text-soft">
                    {f.file}:{f.line}:{f.column}
                  </p>
                  <p>{f.message}</p>
                  {f.remedy && <p className="text-soft">→ {f.remedy}</p>}
                </li>
              ))}
            </ol>
          )}
          {p && p.findings.length > 0 && (
            <div className="mt-3">
              <Findings list={p.findings} />
            </div>
          )}
          {again && p?.status !== 403 && (
            <Key className="mt-3" onClick={again}>
              Try again
            </Key>
          )}
        </div>
      </div>
    </div>
  )
}

/** Shows a query in each of its states. What was read before stays while it is read again. */
export function Shown<T>({ query, rows, children }: { query: UseQueryResult<T, Error>; rows?: number; children: (data: T) => ReactNode }) {
  if (query.data !== undefined) return children(query.data)
  if (query.error) return <Trouble error={query.error} again={() => void query.refetch()} />
  return <Loading rows={rows} />
}

/** Says that there is nothing here yet, and what to do about it. */
export function Empty({ picture, title, children }: { picture: ReactNode; title: string; children: ReactNode }) {
  return (
    <div className="plate grid justify-items-center gap-2 px-5 py-8 text-center">
      {picture}
      <h2 className="mt-2 text-lead font-semibold">{title}</h2>
      <div className="max-w-lg text-soft">{children}</div>
    </div>
  )
}

/** A strong word in between: something to know before going on. */
export function Notice({ light, title, children }: { light: 'settling' | 'alarm' | 'settled' | 'none'; title: string; children: ReactNode }) {
  const wash = { settling: 'bg-settling-wash', alarm: 'bg-alarm-wash', settled: 'bg-settled-wash', none: 'bg-sunken' }[light]
  return (
    <div role="status" className={`flex items-start gap-3 rounded-plate p-4 ${wash}`}>
      <Lamp light={light} />
      <div className="min-w-0">
        <p className="font-semibold">{title}</p>
        <div>{children}</div>
      </div>
    </div>
  )
}
