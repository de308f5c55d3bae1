// Fields of the SOA record: what is desired by the zone, and what the service desires where the zone says nothing.
import * as z from 'zod/mini'
import type { ZoneSettings } from '../../api/types'
import { Input } from '../../parts/form'

export type SOA = ZoneSettings['soa']

const names = [
  { name: 'rname', label: 'Mailbox (RNAME)', example: 'hostmaster@tides.example' },
  { name: 'mname', label: 'Primary nameserver (MNAME)', example: 'ns1.tides.example' },
] as const

const times = [
  { name: 'refresh', label: 'Refresh' },
  { name: 'retry', label: 'Retry' },
  { name: 'expire', label: 'Expire' },
  { name: 'minimum', label: 'Minimum' },
  { name: 'ttl', label: 'Its TTL' },
] as const

/** The fields in words, such as "minimum 300 s". */
const said = (soa: SOA) => [...names.map((f) => soa[f.name] && `${f.name} ${soa[f.name]}`), ...times.map((f) => soa[f.name] && `${f.name} ${soa[f.name]} s`)].filter(Boolean).join(', ')

export function ShowSOA({ soa, defaults }: { soa: SOA; defaults?: SOA }) {
  const own = said(soa)
  const below = said(Object.fromEntries(Object.entries(defaults ?? {}).filter(([field]) => !soa[field as keyof SOA])))
  if (!own && !below) return null
  return (
    <p>
      SOA record:{' '}
      <span className="data">
        {own}
        {own && below && ', '}
        {below && <span className="text-soft">{below} (default of the service)</span>}
      </span>
    </p>
  )
}

const seconds = { s: 1, m: 60, h: 3600, d: 86400, w: 604800 } as const

/** Seconds of a time such as 1h30m; undefined for none, NaN for what is no time. */
export function timeOf(text: string): number | undefined {
  const t = text.trim().toLowerCase()
  if (!t) return undefined
  if (/^\d+$/.test(t)) return Number(t)
  if (!/^(\d+[smhdw])+$/.test(t)) return NaN
  return [...t.matchAll(/(\d+)([smhdw])/g)].reduce((sum, [, n, unit]) => sum + Number(n) * seconds[unit as 's'], 0)
}

const time = z.pipe(
  z.string().check(z.refine((text) => (timeOf(text) ?? 1) >= 1 && (timeOf(text) ?? 1) < 2 ** 31, 'Write seconds, or a time such as 5m or 1h30m.')),
  z.transform(timeOf),
)
const text = z.pipe(z.string(), z.transform((t) => t.trim() || undefined))

export const soaSchema = z.object({ rname: text, mname: text, refresh: time, retry: time, expire: time, minimum: time, ttl: time })

/** The values of the fields as the form has them. */
export const soaValues = (soa: SOA) => ({
  rname: soa.rname ?? '', mname: soa.mname ?? '', refresh: String(soa.refresh ?? ''), retry: String(soa.retry ?? ''), expire: String(soa.expire ?? ''), minimum: String(soa.minimum ?? ''), ttl: String(soa.ttl ?? ''),
})

export function EditSOA({ defaults }: { defaults?: SOA }) {
  return (
    <fieldset>
      <legend className="label">SOA record, where the provider lets it be set</legend>
      <div className="grid gap-4 sm:grid-cols-2">
        {names.map((f) => (
          <Input key={f.name} name={`soa.${f.name}`} label={f.label} data placeholder={defaults?.[f.name] ?? f.example} />
        ))}
      </div>
      <div className="mt-3 grid grid-cols-2 gap-4 sm:grid-cols-5">
        {times.map((f) => (
          <Input key={f.name} name={`soa.${f.name}`} label={f.label} data placeholder={defaults?.[f.name] ? String(defaults[f.name]) : 'as it is'} />
        ))}
      </div>
      <p className="mt-0.5 text-fine text-soft">Times in seconds, or such as 5m. Minimum is how long caches keep that a name does not exist. An empty field stays as the provider has it, or as the service desires it by default.</p>
    </fieldset>
  )
}
