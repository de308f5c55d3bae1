// A brief check of all domains: started here, followed to its end, and summed up in a line.
import { useBriefChecks, useStartBriefCheck } from '../../api/hooks'
import { Bar } from '../../parts/bar'
import { Key, Trouble } from '../../parts/kit'
import { standing } from '../../parts/lamp'

export function LookAtAll() {
  const begin = useStartBriefCheck()
  const { data } = useBriefChecks(begin.data?.since)
  const through = data && data.ended !== null
  return (
    <div className="grid max-w-md justify-items-end gap-2 text-right">
      <Key onClick={() => begin.mutate()} busy={begin.isPending || (!!data && !through)}>
        Start brief check
      </Key>
      <p role="status" className="min-h-9 text-fine text-soft">
        {data && !through && `${data.looked} of ${data.domains} checked`}
        {through && `Brief check: ${counted(data.verdicts)}. Domains whose state changed are being checked.`}
      </p>
      {data && !through && <Bar done={data.looked} of={data.domains} label="Domains checked" />}
      {begin.error && <Trouble error={begin.error} />}
    </div>
  )
}

/** "3 settled, 1 needs action", in the order in which they are asked about. */
export function counted(verdicts: Record<string, number>): string {
  const parts = ['settled', 'settling', 'ready-to-move', 'needs-action', 'undelegated', 'unknown'].filter((v) => verdicts[v]).map((v) => `${verdicts[v]} ${standing(v).word.toLowerCase()}`)
  return parts.join(', ') || 'none'
}
