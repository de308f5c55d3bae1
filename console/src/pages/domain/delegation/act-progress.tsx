// The state of the last delegation that a user requested. It runs in the background and goes on when this page is closed.
import { useAct, useCancelAct } from '../../../api/hooks'
import { Findings } from '../../../parts/findings'
import { Key, Plate } from '../../../parts/kit'
import { type Light, Tag } from '../../../parts/lamp'
import { wall } from '../../../parts/text'

const states: Record<string, { light: Light; word: string }> = {
  pending: { light: 'settling', word: 'pending' },
  running: { light: 'settling', word: 'running' },
  sent: { light: 'settling', word: 'sent' },
  done: { light: 'settled', word: 'done' },
  'not-applied': { light: 'none', word: 'not applied' },
  partial: { light: 'settling', word: 'partial' },
  blocked: { light: 'alarm', word: 'blocked' },
  failed: { light: 'alarm', word: 'failed' },
  retrying: { light: 'settling', word: 'retrying' },
  cancelled: { light: 'none', word: 'cancelled' },
}

const requests: Record<string, string> = { 'nameservers-saved': 'save the list', 'nameservers-activated': 'make the list active', 'zone-removed': 'remove the zone', 'host-written': 'give the addresses of a nameserver', 'ds-written': 'change the DS records', 'lock-written': 'change the lock' }

export function ActProgress({ id }: { id: number }) {
  const act = useAct(id)
  const cancel = useCancelAct()
  if (!act.data) return null
  const { light, word } = states[act.data.state] ?? { light: 'unknown', word: act.data.state }
  return (
    <Plate title={`Act ${id}, asked for by ${act.data.requested_by} at ${wall(act.data.created_at)}`} aside={<Tag light={light}>{word}</Tag>}>
      <p>{act.data.message || act.data.problem || 'It is done in the background. You can close this page.'}</p>
      {act.data.retrying && (
        <p className="text-soft">
          Waiting since {wall(act.data.retrying.since)}, next try by {wall(act.data.retrying.next_try)}. It continues automatically.
        </p>
      )}
      {['pending', 'running', 'retrying'].includes(act.data.state) && (
        <Key className="mt-2" busy={cancel.isPending} onClick={() => cancel.mutate(id)}>
          Cancel act
        </Key>
      )}
      {act.data.state !== 'done' && act.data.findings.length > 0 && <Findings list={act.data.findings} />}
      {act.data.requests.length > 0 && (
        <ul className="mt-2 grid gap-1">
          {act.data.requests.map((r) => (
            <li key={r.id} className="flex flex-wrap gap-x-3">
              <Tag light={(states[r.state] ?? { light: 'unknown' }).light as Light}>{(states[r.state] ?? { word: r.state }).word}</Tag>
              <span>{requests[r.kind] ?? r.kind}</span>
              {r.problem && <span className="text-soft wrap-anywhere">{r.problem}</span>}
            </li>
          ))}
        </ul>
      )}
    </Plate>
  )
}
