// The code of a finding; what it means is shown on demand.
import { useQuery } from '@tanstack/react-query'
import { Popover } from 'radix-ui'
import { Link } from 'react-router'
import { get } from '../api/client'
import { Remedy } from './remedy-text'

/** Every code of a finding with its meaning. */
export const useCodes = () => useQuery({ queryKey: ['finding-codes'], queryFn: ({ signal }) => get('/findings', {}, signal), staleTime: Infinity })

/** What a guard blocks, without the command that allows it. */
export const blocked = (guard: string) => guard.replace(/; to allow .*$/, '')

export function Meaning({ code }: { code: string }) {
  return (
    <Popover.Root>
      <Popover.Trigger className="rounded-key font-semibold underline decoration-line-strong decoration-dotted underline-offset-4 hover:decoration-accent">{code.replaceAll('-', ' ')}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content sideOffset={6} collisionPadding={8} aria-label={`What ${code} means`} className="plate z-30 grid w-[min(26rem,calc(100vw-2rem))] gap-2 p-4">
          <Explained code={code} />
          <Popover.Arrow className="fill-line-strong" />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}

function Explained({ code }: { code: string }) {
  const codes = useCodes()
  const list = codes.data?.items.filter((k) => k.code === code) ?? []
  if (codes.isLoading) return <p className="text-soft">Loading …</p>
  return (
    <>
      {list.length === 0 && <p className="text-soft">Nothing more is known about this code.</p>}
      {list.map((k) => (
        <div key={k.about} className="grid gap-1">
          <p className="text-fine text-soft">
            {k.about}: {k.severity}
          </p>
          <p>{k.meaning}</p>
          <p className="text-soft">
            → <Remedy text={k.remedy} />
          </p>
          {k.guard && <p className="text-fine">Blocks {blocked(k.guard)}.</p>}
        </div>
      ))}
      <Link className="link text-fine" to={`/findings#${code}`}>
        All findings
      </Link>
    </>
  )
}
