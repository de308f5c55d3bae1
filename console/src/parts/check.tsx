// A box to tick, with its words beside it.
import { Checkbox } from 'radix-ui'
import { type ReactNode, useId } from 'react'

type CheckProps = { children: ReactNode; name?: string; value?: string; checked?: boolean; defaultChecked?: boolean; onChange?: (yes: boolean) => void; className?: string }

export function Check({ children, onChange, className = '', ...box }: CheckProps) {
  const id = useId()
  return (
    <div className={`flex min-h-8 items-center gap-2 ${className}`}>
      <Checkbox.Root
        id={id}
        {...box}
        onCheckedChange={(state) => onChange?.(state === true)}
        className="grid size-6 shrink-0 place-items-center rounded-key border-2 border-line-strong bg-surface hover:border-accent data-[state=checked]:border-transparent data-[state=checked]:bg-action"
      >
        <Checkbox.Indicator>
          <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden="true">
            <path d="m3 8.500 3.200 3.200L13 4.800" fill="none" className="stroke-on-action" strokeWidth="2.400" strokeLinecap="round" strokeLinejoin="round" />
          </svg>
        </Checkbox.Indicator>
      </Checkbox.Root>
      <label htmlFor={id}>{children}</label>
    </div>
  )
}
