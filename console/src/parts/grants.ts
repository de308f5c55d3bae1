// Grants as users write and read them: a role or actions, and what narrows it.
import type { Grant, GrantView } from '../api/types'

/** One grant as text, as the command line writes it. */
export function grantText(g: GrantView | Grant): string {
  const part = (key: string, list: string[] | undefined) => (list?.length ? ` ${key}=${list.join(',')}` : '')
  return (g.role || (g.actions ?? []).join(',')) + part('zones', g.zones) + part('names', g.names) + part('types', g.types)
}

/** What can be chosen, with what it allows. */
export const mays = [
  { value: 'viewer', label: 'Viewer: see everything, have domains checked' },
  { value: 'editor', label: 'Editor: also change records and sync them' },
  { value: 'operator', label: 'Operator: also delegate, add and remove zones' },
  { value: 'owner', label: 'Owner: also accounts, users and tokens' },
]

/** What only a machine needs. */
export const machineMays = [
  { value: 'edit,sync', label: 'Change records and sync them, and see nothing else' },
  { value: 'sweep', label: 'Vantage point: ask nameservers and resolvers only' },
  { value: 'report', label: 'Report addresses of dynamic hosts' },
]

const words = (text: string) => text.split(/[\s,]+/).filter((w) => w !== '')

export type GrantValues = { may: string; zones: string; names: string; types: string }

export const noGrant: GrantValues = { may: '', zones: '', names: '', types: '' }

/** A grant as the fields of a form. */
export const valuesOf = (g: GrantView): GrantValues => ({
  may: g.role || (g.actions ?? []).join(','),
  zones: (g.zones ?? []).join(', '),
  names: (g.names ?? []).join(', '),
  types: (g.types ?? []).join(', '),
})

/** The grant that a form describes. */
export function grantOf({ may, zones, names, types }: GrantValues): Grant {
  const role = mays.some((m) => m.value === may)
  return {
    ...(role ? { role: may } : { actions: may.split(',') }),
    ...(words(zones).length > 0 && { zones: words(zones) }),
    ...(words(names).length > 0 && { names: words(names) }),
    ...(words(types).length > 0 && { types: words(types).map((t) => t.toUpperCase()) }),
  } as Grant
}
