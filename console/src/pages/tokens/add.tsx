// A new token: what it may do, from where, and how long.
import * as z from 'zod/mini'
import { useAddToken } from '../../api/hooks'
import { Form, FormKeys, Input } from '../../parts/form'
import { Pick } from '../../parts/form-choices'
import { GrantFields } from '../../parts/grant-fields'
import { grantOf, noGrant } from '../../parts/grants'
import { Plate, Trouble } from '../../parts/kit'
import { Text } from './text'

const token = z.object({
  name: z.string().check(z.trim(), z.regex(/^[a-z][a-z0-9-]{0,63}$/, 'Use lower-case letters, digits and hyphens, such as backup-job.')),
  may: z.string().check(z.minLength(1, 'Choose what the token may do.')),
  zones: z.string(),
  names: z.string(),
  types: z.string(),
  networks: z.string(),
  days: z.string(),
})

const lives = [
  { value: '30', label: '30 days' },
  { value: '90', label: '90 days' },
  { value: '365', label: '1 year' },
  { value: '0', label: 'No end' },
]

export function Add({ close }: { close: () => void }) {
  const add = useAddToken()
  if (add.data) return <Text made={add.data} close={close} />
  return (
    <Plate title="Add token" className="mb-5">
      <Form
        schema={token}
        values={{ name: '', ...noGrant, networks: '', days: '90' }}
        onSubmit={({ name, networks, days, ...g }) =>
          add.mutate({
            name,
            grants: [grantOf(g)],
            networks: networks.split(/[\s,]+/).filter((n) => n !== ''),
            ...(days !== '0' && { expires: new Date(Date.now() + Number(days) * 86_400_000).toISOString() }),
          })
        }
        className="grid gap-4"
      >
        <Input name="name" label="Name" autoFocus data placeholder="certificates" className="max-w-sm" explain="What it is for; the logbook shows it" />
        <GrantFields machine />
        <div className="grid gap-4 sm:grid-cols-2">
          <Input name="networks" label="Only from networks" data placeholder="all networks" explain="Such as 192.0.2.0/24" />
          <Pick name="days" label="Expires after" options={lives} />
        </div>
        {add.error && <Trouble error={add.error} />}
        <FormKeys action="Create token" busy={add.isPending} cancel={close} />
      </Form>
    </Plate>
  )
}
