// Who may use the service: the users, and one's own password and sessions.
import { useState } from 'react'
import * as z from 'zod/mini'
import { useAddUser, useMe, useRemoveUser, useUsers } from '../../api/hooks'
import { Confirm } from '../../parts/confirm'
import { Form, Input } from '../../parts/form'
import { Key, PageHead, Plate, Shown, Trouble } from '../../parts/kit'
import { Password } from './password'
import { Sessions } from './sessions'

export function Users() {
  const users = useUsers()
  const me = useMe()
  const [adding, setAdding] = useState(false)
  const [removing, setRemoving] = useState('')
  const remove = useRemoveUser()
  return (
    <>
      <title>Users · Agile Beacon</title>
      <PageHead title="Users" lead="Each user signs in with a name and a password, and may do everything here.">
        {!adding && (
          <Key weight="main" onClick={() => setAdding(true)}>
            Add user
          </Key>
        )}
      </PageHead>
      {adding && <Add close={() => setAdding(false)} />}
      <div className="grid gap-5">
        <Shown query={users}>
          {({ items }) => (
            <Plate title="Users">
              <ul>
                {items.map(({ name }) => (
                  <li key={name} className="flex min-h-12 flex-wrap items-center gap-x-4 border-b border-line py-1 last:border-0">
                    <span className="flex-1 font-semibold wrap-anywhere">{name}</span>
                    {name === me.data?.name ? <span className="text-soft">you</span> : <Key onClick={() => setRemoving(name)}>Remove user…</Key>}
                  </li>
                ))}
              </ul>
              {remove.error && <Trouble error={remove.error} />}
            </Plate>
          )}
        </Shown>
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
        The user cannot sign in any more, and every session ends. Zones, revisions and dynamic hosts stay.
      </Confirm>
    </>
  )
}

const user = z.object({ name: z.string().check(z.trim(), z.regex(/^[a-z][a-z0-9.-]{0,63}$/, 'Use lower-case letters, digits, dots and hyphens, such as petra.')) })

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
      <Form schema={user} values={{ name: '' }} onSubmit={(u) => add.mutate(u.name)} className="grid gap-4">
        <Input name="name" label="Name" autoFocus data placeholder="petra" className="max-w-sm" />
        {add.error && <Trouble error={add.error} />}
        <div className="flex gap-3">
          <Key type="submit" weight="main" busy={add.isPending}>
            Create password
          </Key>
          <Key weight="quiet" onClick={close}>
            Cancel
          </Key>
        </div>
      </Form>
    </Plate>
  )
}
