// The fields of a credential: one text, or a field for each of its parts.
import * as z from 'zod/mini'
import type { components } from '../../api/schema'
import { Input } from '../../parts/form'

export type Part = components['schemas']['CredentialPart']

const given = (what: string) => z.string().check(z.trim(), z.minLength(1, what))

/** What the fields of a credential hold: secret, or parts by name. */
export const credentialFields = (parts: Part[]) => ({
  secret: parts.length > 0 ? z.optional(z.string()) : given('Give the credential.'),
  parts: z.object(Object.fromEntries(parts.map((p) => [p.name, given(`Give the part ${p.name}.`)]))),
})

export const noCredential = (parts: Part[]) => ({ secret: '', parts: Object.fromEntries(parts.map((p) => [p.name, ''])) })

/** What is sent of it. */
export const sentCredential = (parts: Part[], of: { secret?: string; parts: Record<string, string> }) => (parts.length > 0 ? { parts: of.parts } : { secret: of.secret })

export function Credential({ parts, label, explain, autoFocus }: { parts: Part[]; label: string; explain: string; autoFocus?: boolean }) {
  if (parts.length === 0)
    return <Input name="secret" label={label} type="password" autoFocus={autoFocus} autoComplete="off" className="max-w-lg sm:col-span-2" explain={explain} />
  return (
    <fieldset className="grid gap-3 sm:col-span-2">
      <legend className="label">{label}</legend>
      {parts.map((p, i) => (
        <Input key={p.name} name={`parts.${p.name}`} label={p.name} rows={1} masked autoFocus={autoFocus && i === 0} autoComplete="off" className="max-w-lg" explain={p.description || undefined} />
      ))}
      <p className="text-fine text-soft">{explain}</p>
    </fieldset>
  )
}
