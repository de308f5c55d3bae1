// Who may use the service: the users, and one's own password and sessions.
import { useState } from 'react'
import * as z from 'zod/mini'
import { useAddUser, useGrant, useMe, useRemoveUser, useUsers } from '../../api/hooks'
import { GrantFields } from '../../parts/grant-fields'
import type { GrantView } from '../../api/types'
import { grantOf, grantText, mays, noGrant, valuesOf } from '../../parts/grants'
import { wall } from '../../parts/text'
import { Confirm } from '../../parts/confirm'
import { Form, FormKeys, Input } from '../../parts/form'
import { Key, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { Password } from './password'
import { Sessions } from './sessions'

export function Users() {
  const me = useMe()
  const users = useUsers(me.data?.everywhere.includes('users') ?? false)
  const [adding, setAdding] = useState(false)
  const [removing, setRemoving] = useState('')
  const [changing, setChanging] = useState('')
  const mayNot = !me.data?.everywhere.includes('users') // only one's own password and sessions
  const remove = useRemoveUser()
  return (
    <>
      <title>Users · Agile Beacon</title>
      <PageHead title="Users" lead="Each user signs in with a name and a password, and may do what is granted.">
        {!adding && !mayNot && (
          <Key weight="main" onClick={() => setAdding(true)}>
            Add user
          </Key>
        )}
      </PageHead>
      {adding && <Add close={() => setAdding(false)} />}
      <div className="grid gap-5">
        {!mayNot && (
          <Shown query={users}>
            {({ items }) => (
              <Plate title="Users">
                <ul>
                  {items.map((u) => (
                    <li key={u.name} className="border-b border-line py-2 last:border-0">
                      <div className="flex min-h-10 flex-wrap items-center gap-x-4 gap-y-1">
                        <div className="min-w-40 flex-1">
                          <span className="font-semibold wrap-anywhere">{u.name}</span>
                          {u.name === me.data?.name && <span className="text-soft"> (you)</span>}
                          <p className="data text-fine wrap-anywhere">{u.grants.map(grantText).join('; ')}</p>
                          <p className="text-fine text-soft">
                            {u.signed_in_at ? `signed in ${wall(u.signed_in_at)}` : 'no sign-in is kept'}
                            {u.tokens > 0 && `, ${u.tokens === 1 ? '1 token' : `${u.tokens} tokens`}`}
                          </p>
                        </div>
                        <Key aria-label={`Change grant of ${u.name}`} onClick={() => setChanging(changing === u.name ? '' : u.name)}>
                          Change grant…
                        </Key>
                        {u.name !== me.data?.name && (
                          <Key aria-label={`Remove user ${u.name}`} onClick={() => setRemoving(u.name)}>
                            Remove user…
                          </Key>
                        )}
                      </div>
                      {changing === u.name && <Change name={u.name} grants={u.grants} close={() => setChanging('')} />}
                    </li>
                  ))}
                </ul>
                {remove.error && <Trouble error={remove.error} />}
              </Plate>
            )}
          </Shown>
        )}
        <Password />
        <Sessions />
      </div>
      <Confirm
        title={`Remove ${removing}?`}
        action="Remove user"
        open={removing !== ''}
        onOpen={() => setRemoving('')}
        onConfirm={() => {
          remove.mutate(removing)
          setRemoving('')
        }}
      >
        The user cannot sign in any more; its sessions and tokens end. Zones, revisions and dynamic hosts stay.
      </Confirm>
    </>
  )
}

const grant = { may: z.string().check(z.minLength(1, 'Choose what the user may do.')), zones: z.string(), names: z.string(), types: z.string() }
const user = z.object({ name: z.string().check(z.trim(), z.regex(/^[a-z][a-z0-9.-]{0,63}$/, 'Use lower-case letters, digits, dots and hyphens, such as petra.')), ...grant })

/** Changes what a user may do. */
function Change({ name, grants, close }: { name: string; grants: GrantView[]; close: () => void }) {
  const change = useGrant()
  return (
    <Form schema={z.object(grant)} values={grants[0] && mays.some((m) => m.value === grants[0]!.role) ? valuesOf(grants[0]) : noGrant} onSubmit={(g) => change.mutate({ name, grants: [grantOf(g)] }, { onSuccess: close })} className="mt-2 grid gap-4 rounded-key bg-sunken p-4">
      {grants.length > 1 && <p>{name} has several grants: this one takes the place of all. The command line keeps several: beacon user grant.</p>}
      <GrantFields />
      {change.error && <Trouble error={change.error} />}
      <FormKeys action="Change grant" busy={change.isPending} cancel={close} />
    </Form>
  )
}

function Add({ close }: { close: () => void }) {
  const add = useAddUser()
  if (add.data) {
    return (
      <Plate title={`Password of ${add.data.name}`} className="mb-5 border-2 border-settling">
        <p>
          It is shown <strong>only once</strong>: copy it now. {add.data.name} can change it after signing in.
        </p>
        <p className="data my-3 rounded-key bg-sunken p-3 select-all">{add.data.password}</p>
        <Key onClick={close}>Close</Key>
      </Plate>
    )
  }
  return (
    <Plate title="Add user" className="mb-5">
      <Form schema={user} values={{ name: '', ...noGrant, may: 'viewer' }} onSubmit={({ name, ...g }) => add.mutate({ name, grants: [grantOf(g)] })} className="grid gap-4">
        <Input name="name" label="Name" autoFocus data placeholder="petra" className="max-w-sm" />
        <GrantFields />
        {add.error && <Trouble error={add.error} />}
        <FormKeys action="Create password" busy={add.isPending} cancel={close} />
      </Form>
    </Plate>
  )
}
