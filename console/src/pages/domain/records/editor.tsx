// One record by the fields of its type. What is typed is made into data by the service, which says what is wrong with it.
import { useId, useMemo, useState } from 'react'
import { useFormContext, useWatch } from 'react-hook-form'
import * as z from 'zod/mini'
import { useJoin, useRecordTypes } from '../../../api/hooks'
import type { DnsRecord, FormField, RecordForm } from '../../../api/types'
import { Form, Input } from '../../../parts/form'
import { Pick } from '../../../parts/form-choices'
import { Key, Loading, Trouble } from '../../../parts/kit'
import { Choice } from '../../../parts/select'
import { relative } from '../../../parts/text'
import { split } from './fields'
import type { Change } from './shared'

type EditorProps = { zone: string; record?: DnsRecord; change: Change; busy: boolean; close: () => void }

export function Editor(props: EditorProps) {
  const types = useRecordTypes()
  if (types.error) return <Trouble error={types.error} />
  if (!types.data) return <Loading rows={1} />
  return <Filled {...props} forms={types.data.items} />
}

/** What people add most comes first. */
const often = ['A', 'AAAA', 'CNAME', 'MX', 'TXT', 'ALIAS']

const fields = z.object({
  name: z.string().check(z.trim()),
  type: z.string().check(z.trim(), z.toUpperCase(), z.minLength(1, 'Choose a type.')),
  ttl: z.string().check(z.trim(), z.regex(/^[0-9]+$/, 'Give seconds, such as 3600.')),
  values: z.record(z.string(), z.string()),
})

function Filled({ zone, record, change, busy, close, forms }: EditorProps & { forms: RecordForm[] }) {
  const join = useJoin(zone)
  const formOf = (type: string) => forms.find((f) => f.type === type) ?? generic(type)
  const before = record ? split(formOf(record.type), record.data) : {}
  return (
    <Form
      schema={fields}
      values={{ name: record ? relative(record.name, zone) : '', type: record?.type ?? 'A', ttl: String(record?.ttl ?? 3600), values: before }}
      label={record ? 'Change this record' : 'Add a record'}
      className="grid gap-3"
      onSubmit={({ name, type, ttl, values }) => {
        const given = Object.fromEntries(formOf(type).fields.map((f) => [f.name, values[f.name] || f.choices?.[0]?.value || '']))
        join.mutate(
          { type, fields: given },
          {
            onSuccess: ({ data }) => {
              const after: DnsRecord = { name: absolute(name, zone), ttl: Number(ttl), type, data }
              change({ records: [{ before: record ?? null, after }] }, close)
            },
          },
        )
      }}
    >
      <Fields forms={forms} formOf={formOf} changing={record !== undefined} />
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
    </Form>
  )
}

/** Name, type and TTL, and the fields of the type that is chosen. */
function Fields({ forms, formOf, changing }: { forms: RecordForm[]; formOf: (type: string) => RecordForm; changing: boolean }) {
  const { setValue, control } = useFormContext()
  const type = String(useWatch({ control, name: 'type' }))
  const [other, setOther] = useState(() => !forms.some((f) => f.type === type))
  const id = useId()
  const form = formOf(type)
  const types = useMemo(() => [...[...often, ...forms.map((f) => f.type).filter((t) => !often.includes(t))].map((value) => ({ value })), { value: 'other', label: 'another …' }], [forms])
  function choose(value: string) {
    setOther(value === 'other')
    setValue('type', value === 'other' ? '' : value)
    setValue('values', {})
  }
  return (
    <>
      <p className="text-soft">{form.means}</p>
      <div className="grid gap-3 sm:grid-cols-[1fr_9rem_7rem]">
        <Input name="name" label="Name" data autoFocus={!changing} placeholder="www" explain="Relative to the zone; @ for the zone itself." />
        <div>
          <label className="label" htmlFor={id}>
            Type
          </label>
          <Choice id={id} value={other ? 'other' : type} onChange={choose} options={types} />
          {other && <Input name="type" label="Name of the type" data placeholder="TYPE65280" className="mt-1" />}
        </div>
        <Input name="ttl" label="TTL" data inputMode="numeric" explain="Seconds, of the whole set." />
      </div>
      <div className="grid gap-3 sm:grid-cols-2">
        {form.fields.map((f, i) => (
          <OneField key={type + f.name} field={f} focus={changing && i === 0} />
        ))}
      </div>
    </>
  )
}

function OneField({ field: f, focus }: { field: FormField; focus: boolean }) {
  const wide = f.kind === 'texts' || f.kind === 'octets' || f.kind === 'rest'
  const { getValues } = useFormContext()
  const name = `values.${f.name}`
  const shared = { name, label: f.label, explain: f.explain, className: wide ? 'sm:col-span-2' : '' }
  const value = getValues(name) as string | undefined
  if (f.choices && (!value || f.choices.some((c) => c.value === value)))
    return <Pick {...shared} fallback={f.choices[0]!.value} options={f.choices.map((c) => ({ value: c.value, explain: c.means }))} />
  return <Input {...shared} data rows={wide ? 2 : undefined} autoFocus={focus} placeholder={f.example} inputMode={f.kind === 'number' ? 'numeric' : undefined} />
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
