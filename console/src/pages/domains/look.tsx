// A brief look at all domains: begun here, followed until it is through, and told in a line.
import { useGlances, useLookAtAll } from '../../api/hooks'
import { Key, Trouble } from '../../parts/kit'
import { standing } from '../../parts/lamp'

export function LookAtAll() {
  const begin = useLookAtAll()
  const { data } = useGlances(begin.data?.since)
  const through = data && data.ended !== null
  return (
    <div className="grid max-w-md justify-items-end gap-2 text-right">
      <Key onClick={() => begin.mutate()} busy={begin.isPending || (!!data && !through)}>
        Look at all now
      </Key>
      <p role="status" className="min-h-9 text-fine text-soft">
        {data && !through && `${data.looked} of ${data.domains} looked at`}
        {through && `Looked at briefly: ${counted(data.verdicts)}. Who stands otherwise than before is checked now.`}
      </p>
      {begin.error && <Trouble error={begin.error} />}
    </div>
  )
}

/** "3 settled, 1 wrong", in the order in which they are asked about. */
export function counted(verdicts: Record<string, number>): string {
  const parts = ['settled', 'settling', 'ready-to-move', 'needs-action', 'undelegated', 'unknown'].filter((v) => verdicts[v]).map((v) => `${verdicts[v]} ${standing(v).word.toLowerCase()}`)
  return parts.join(', ') || 'none'
}
