// Zone settings: what happens to changes made at the provider, what is protected, which attributes sets have.
import { useState } from 'react'
import * as z from 'zod/mini'
import { useSetZoneSettings } from '../../api/hooks'
import type { ZoneSettings } from '../../api/types'
import { Form, FormKeys, Input } from '../../parts/form'
import { Pick, Tick } from '../../parts/form-choices'
import { Key, Plate, Trouble } from '../../parts/kit'
import { EditSOA, ShowSOA, soaSchema, soaValues, type SOA } from './zone-soa'

const drifts = [
  { value: 'manual', say: 'are shown; a user decides' },
  { value: 'revert', say: 'are reverted automatically' },
  { value: 'adopt', say: 'are adopted automatically' },
]

type Props = { name: string; settings: ZoneSettings; defaultSOA?: SOA }

export function ZoneSettingsPlate({ name, settings, defaultSOA, managedBy }: Props & { managedBy: string }) {
  const [editing, edit] = useState(false)
  return (
    <Plate title="Zone settings" className="mt-5" aside={managedBy ? `set in ${managedBy}` : undefined}>
      {editing ? (
        <Edit name={name} settings={settings} defaultSOA={defaultSOA} close={() => edit(false)} />
      ) : (
        <>
          <p>
            Changes made at the provider {drifts.find((d) => d.value === settings.drift)?.say}.{settings.keep_existing && ' Record sets that were at the provider before are kept.'}
          </p>
          <p>
            Websites: <span className="data">{settings.websites?.join(', ') || 'none'}</span>
          </p>
          {settings.protect.length > 0 && (
            <p>
              Protected: <span className="data">{settings.protect.join(', ')}</span>
            </p>
          )}
          {settings.attributes.map((e) => (
            <p key={e.set + e.name}>
              <span className="data">{e.set}</span> has {e.name} <span className="data">{e.value}</span> where the provider knows it.
            </p>
          ))}
          <ShowSOA soa={settings.soa} defaults={defaultSOA} />
          {managedBy ? (
            <p className="mt-2 text-soft">A definition file manages the zone: change the settings there.</p>
          ) : (
            <Key className="mt-3" onClick={() => edit(true)}>
              Change settings
            </Key>
          )}
        </>
      )}
    </Plate>
  )
}

const lines = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)

/** "www A relay=on" as an attribute. */
function attribute(line: string): ZoneSettings['attributes'][number] {
  const [, set = line, name = '', value = ''] = /^(\S+\s+\S+)\s+([^\s=]+)=(.*)$/.exec(line) ?? []
  return { set, name, value: value.trim() }
}

/** Lines of a text, each of which has to have a form. */
const listed = (form: RegExp, problem: string) => z.pipe(z.string().check(z.refine((text) => lines(text).every((line) => form.test(line)), problem)), z.transform(lines))

const form = z.object({
  drift: z.enum(['manual', 'revert', 'adopt']),
  keep_existing: z.boolean(),
  websites: z.pipe(z.string(), z.transform((text) => text.split(/[\s,]+/).filter(Boolean))),
  protect: listed(/^\S+\s+\S+$/, 'Write a name and a type in each line, such as @ MX.'),
  attributes: z.pipe(
    listed(/^\S+\s+\S+\s+[^\s=]+=/, 'Write a name, a type and name=value in each line, such as www A relay=on.'),
    z.transform((list) => list.map(attribute)),
  ),
  soa: soaSchema,
})

function Edit({ name, settings, defaultSOA, close }: Props & { close: () => void }) {
  const set = useSetZoneSettings(name)
  return (
    <Form
      schema={form}
      values={{
        drift: settings.drift as 'manual',
        keep_existing: settings.keep_existing,
        websites: settings.websites?.join(', ') ?? '',
        protect: settings.protect.join('\n'),
        attributes: settings.attributes.map((e) => `${e.set} ${e.name}=${e.value}`).join('\n'),
        soa: soaValues(settings.soa),
      }}
      onSubmit={(s) => set.mutate(s, { onSuccess: close })}
      className="grid gap-4"
    >
      <Pick name="drift" label="Changes made at the provider" options={drifts.map((d) => ({ value: d.value, label: d.say }))} className="max-w-lg" />
      <Tick name="keep_existing">Keep record sets that were at the provider before</Tick>
      <Input name="websites" label="Websites" data className="max-w-lg" explain="@ is the domain itself; checks visit each of them" />
      <div className="grid gap-4 sm:grid-cols-2">
        <Input name="protect" label="Protected sets, a pattern a line" data rows={3} explain="Such as @ MX, or www *" />
        <Input name="attributes" label="Attributes of sets, one a line" data rows={3} explain="Such as www A relay=on" />
      </div>
      <EditSOA defaults={defaultSOA} />
      {set.error && <Trouble error={set.error} />}
      <FormKeys action="Save settings" busy={set.isPending} cancel={close} />
    </Form>
  )
}
