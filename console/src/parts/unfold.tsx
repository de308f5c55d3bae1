// What is shown on demand, below its heading.
import { Collapsible } from 'radix-ui'
import type { ReactNode } from 'react'

type UnfoldProps = { summary: ReactNode; children: ReactNode; start?: boolean; open?: boolean; onOpen?: (open: boolean) => void; className?: string; tone?: string; heading?: boolean }

export function Unfold({ summary, children, start, open, onOpen, className = '', tone = 'text-accent', heading }: UnfoldProps) {
  const trigger = (
    <Collapsible.Trigger className={`group inline-flex items-baseline gap-1.5 rounded-key text-left ${tone}`}>
      <span aria-hidden="true" className="inline-block transition-transform group-data-[state=open]:rotate-90">
        ▸
      </span>
      {summary}
    </Collapsible.Trigger>
  )
  return (
    <Collapsible.Root defaultOpen={start} open={open} onOpenChange={onOpen} className={className}>
      {heading ? <h2 className="text-lead font-semibold">{trigger}</h2> : trigger}
      <Collapsible.Content>{children}</Collapsible.Content>
    </Collapsible.Root>
  )
}
