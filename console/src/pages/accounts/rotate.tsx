// Another credential for an account: tried first, then taken, while everything goes on.
import { useId } from 'react'
import { useRotate } from '../../api/hooks'
import { Findings } from '../../parts/findings'
import { Key, Notice, Trouble } from '../../parts/kit'

export function Rotate({ name, role, close }: { name: string; role: string; close: () => void }) {
  const rotate = useRotate()
  const id = useId()
  function submit(event: React.FormEvent<HTMLFormElement>) {
    event.preventDefault()
    rotate.mutate({ name, role, secret: String(new FormData(event.currentTarget).get('secret') ?? '').trim() })
  }
  if (rotate.data)
    return (
      <div className="mt-3 grid gap-3">
        <Notice light="settled" title={`${name} has its new credential`}>
          Withdraw the old one at its site now.
        </Notice>
        {rotate.data.findings.length > 0 && <Findings list={rotate.data.findings} />}
        <div>
          <Key onClick={close}>Close</Key>
        </div>
      </div>
    )
  return (
    <form onSubmit={submit} className="mt-3 grid gap-3 rounded-key bg-sunken p-3">
      <div className="max-w-lg">
        <label className="label" htmlFor={id}>
          New credential of {name}
        </label>
        <input id={id} name="secret" type="password" required autoFocus autoComplete="off" className="field" />
      </div>
      {rotate.error && <Trouble error={rotate.error} />}
      <div className="flex gap-3">
        <Key type="submit" weight="main" busy={rotate.isPending}>
          Test and save
        </Key>
        <Key weight="quiet" onClick={close}>
          Cancel
        </Key>
      </div>
    </form>
  )
}
