// One record by the fields of its type. What is typed is made into data by the service, which says what is wrong with it.
import { type FormEvent, useId, useMemo, useState } from 'react'
import { useJoin, useRecordTypes } from '../../../api/hooks'
import type { DnsRecord, FormField, RecordForm } from '../../../api/types'
import { Key, Loading, Trouble } from '../../../parts/kit'
import { relative } from '../../../parts/text'
import { split } from './fields'
import type { Change } from './shared'
import { Choice } from '../../../parts/select'

type EditorProps = { zone: string; record?: DnsRecord; change: Change; busy: boolean; close: () => void }

export function Editor(props: EditorProps) {
  const types = useRecordTypes()
  if (types.error) return <Trouble error={types.error} />
  if (!types.data) return <Loading rows={1} />
  return <Form {...props} forms={types.data.items} />
}

/** What people add most comes first. */
const often = ['A', 'AAAA', 'CNAME', 'MX', 'TXT', 'ALIAS']

function Form({ zone, record, change, busy, close, forms }: EditorProps & { forms: RecordForm[] }) {
  const id = useId()
  const join = useJoin(zone)
  const [name, setName] = useState(record ? relative(record.name, zone) : '')
  const [type, setType] = useState(record?.type ?? 'A')
  const [ttl, setTTL] = useState(String(record?.ttl ?? 3600))
  const form = forms.find((f) => f.type === type) ?? generic(type)
  const [values, setValues] = useState(() => (record ? split(form, record.data) : {}))
  const ordered = useMemo(() => [...often, ...forms.map((f) => f.type).filter((t) => !often.includes(t))], [forms])

  const [other, setOther] = useState(() => !forms.some((f) => f.type === type))

  function choose(value: string) {
    setOther(value === 'other')
    setType(value === 'other' ? '' : value)
    setValues({})
  }
  function submit(e: FormEvent) {
    e.preventDefault()
    const fields = Object.fromEntries(form.fields.map((f) => [f.name, values[f.name] ?? (f.choices?.[0]?.value || '')]))
    join.mutate(
      { type, fields },
      {
        onSuccess: ({ data }) => {
          const after: DnsRecord = { name: absolute(name, zone), ttl: Number(ttl), type, data }
          change({ records: [{ before: record ?? null, after }] }, close)
        },
      },
    )
  }
  return (
    <form onSubmit={submit} aria-label={record ? 'Change this record' : 'Add a record'} className="grid gap-3">
      <p className="text-soft">{form.means}</p>
      <div className="grid gap-3 sm:grid-cols-[1fr_9rem_7rem]">
        <Labelled id={id + 'n'} label="Name" explain="Relative to the zone; @ for the zone itself.">
          <input id={id + 'n'} autoFocus={!record} required value={name} onChange={(e) => setName(e.target.value)} spellCheck={false} autoCapitalize="none" className="field data" placeholder="www" aria-describedby={id + 'nx'} />
        </Labelled>
        <Labelled id={id + 't'} label="Type">
          <Choice id={id + 't'} value={other ? 'other' : type} onChange={choose} options={[...ordered.map((value) => ({ value })), { value: 'other', label: 'another …' }]} />
          {other && (
            <input aria-label="Another type" required value={type} onChange={(e) => setType(e.target.value.toUpperCase())} spellCheck={false} className="field data mt-1" placeholder="TYPE65280" />
          )}
        </Labelled>
        <Labelled id={id + 'l'} label="TTL" explain="Seconds, of the whole set.">
          <input id={id + 'l'} required inputMode="numeric" pattern="[0-9]+" value={ttl} onChange={(e) => setTTL(e.target.value)} className="field data" aria-describedby={id + 'lx'} />
        </Labelled>
      </div>
      <div className="grid gap-3 sm:grid-cols-2">
        {form.fields.map((f) => (
          <OneField key={type + f.name} id={id + f.name} field={f} value={values[f.name]} set={(v) => setValues({ ...values, [f.name]: v })} focus={record !== undefined && f === form.fields[0]} />
        ))}
      </div>
      {join.error && <Trouble error={join.error} />}
      <div className="flex flex-wrap gap-2">
        <Key type="submit" weight="main" busy={busy || join.isPending}>
          {record ? 'Change it in the draft' : 'Add it to the draft'}
        </Key>
        {record && (
          <Key weight="grave" busy={busy} onClick={() => change({ records: [{ before: record, after: null }] }, close)}>
            Remove record
          </Key>
        )}
        <Key onClick={close}>Cancel</Key>
      </div>
    </form>
  )
}

function OneField({ id, field: f, value, set, focus }: { id: string; field: FormField; value: string | undefined; set: (value: string) => void; focus: boolean }) {
  const wide = f.kind === 'texts' || f.kind === 'octets' || f.kind === 'rest'
  const shared = { id, autoFocus: focus, 'aria-describedby': id + 'x', spellCheck: false, className: 'field data' }
  const chosen = f.choices && (value === undefined || f.choices.some((c) => c.value === value))
  return (
    <Labelled id={id} label={f.label} explain={f.explain} className={wide ? 'sm:col-span-2' : ''}>
      {f.choices && chosen ? (
        <Choice id={id} data value={value ?? f.choices[0]!.value} onChange={set} options={f.choices.map((c) => ({ value: c.value, explain: c.means }))} describedBy={id + 'x'} />
      ) : wide ? (
        <textarea {...shared} required={!f.maybe} rows={2} value={value ?? ''} onChange={(e) => set(e.target.value)} placeholder={f.example} />
      ) : (
        <input {...shared} required={!f.maybe && f.kind !== 'text'} inputMode={f.kind === 'number' ? 'numeric' : undefined} value={value ?? ''} onChange={(e) => set(e.target.value)} placeholder={f.example} autoCapitalize="none" />
      )}
    </Labelled>
  )
}

function Labelled({ id, label, explain, className = '', children }: { id: string; label: string; explain?: string; className?: string; children: React.ReactNode }) {
  return (
    <div className={className}>
      <label className="label" htmlFor={id}>
        {label}
      </label>
      {children}
      {explain && (
        <p id={id + 'x'} className="mt-0.5 text-fine text-soft">
          {explain}
        </p>
      )}
    </div>
  )
}

const generic = (type: string): RecordForm => ({
  type, means: 'A type without a form of its own.', source: 'RFC 3597', fields: [{ name: 'data', label: 'Data', explain: 'Written as in a zone file.', kind: 'rest', example: '\\# 4 0a000001' }],
})

/** A name as it was typed, made absolute; one that ends with the zone's name is meant in full. */
function absolute(name: string, zone: string): string {
  const typed = name.trim().replace(/^https?:\/\//, '').replace(/\/.*$/, '')
  if (typed === '@' || typed === '') return zone + '.'
  if (typed.endsWith('.')) return typed
  return typed === zone || typed.endsWith('.' + zone) ? typed + '.' : `${typed}.${zone}.`
}
