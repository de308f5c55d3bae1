// What a provider keeps with a record set besides its records, such as a relay: declared here, in the draft.
import { useId } from 'react'
import { useAccounts, useZone, useZoneDraft } from '../../../api/hooks'
import type { DnsRecord } from '../../../api/types'
import { Choice } from '../../../parts/select'
import { relative } from '../../../parts/text'
import type { Change } from './shared'

export function Attributes({ zone, record, change }: { zone: string; record: DnsRecord; change: Change }) {
  const accounts = useAccounts('provider')
  const view = useZone(zone)
  const draft = useZoneDraft(zone)
  const id = useId()
  if (!accounts.data || !view.data || !draft.data) return null
  const here = view.data.placements.map((p) => p.account)
  const known = accounts.data.items.filter((a) => here.includes(a.name)).flatMap((a) => (a.caps?.attributes ?? []).map((e) => ({ ...e, account: a.name })))
  if (known.length === 0) return null
  const set = `${relative(record.name, zone)} ${record.type}`
  const edited = draft.data.edits.flatMap((e) => e.attributes).filter((e) => e.set === set)
  const declared = view.data.settings.attributes.filter((e) => e.set === set)
  const value = (name: string) => edited.find((e) => e.name === name)?.after ?? declared.find((e) => e.name === name)?.value ?? ''
  return (
    <fieldset className="mt-3 grid gap-3 border-t border-line pt-3 sm:grid-cols-2">
      <legend className="sr-only">Attributes of this set</legend>
      {known.map((e, i) => (
        <div key={e.account + e.name}>
          <label className="label" htmlFor={id + i}>
            {e.name} <span className="font-normal text-soft">at {e.account}</span>
          </label>
          <Choice
            id={id + i}
            value={value(e.name)}
            options={[{ value: '', label: 'as the provider has it' }, ...(e.values ?? []).map((v) => ({ value: v }))]}
            onChange={(v) => change({ attributes: [{ set, name: e.name, value: v }] })}
          />
          <p className="mt-1 text-fine text-soft">{e.description ? `${e.description.charAt(0).toUpperCase()}${e.description.slice(1)}. ` : ''}Of the whole set; goes into the draft.</p>
        </div>
      ))}
    </fieldset>
  )
}
