// A word of explanation beside what is pointed at or has the focus.
import { Tooltip } from 'radix-ui'
import type { ReactNode } from 'react'

export function Tip({ text, children }: { text: string; children: ReactNode }) {
  return (
    <Tooltip.Provider delayDuration={300}>
      <Tooltip.Root>
        <Tooltip.Trigger asChild>
          <span tabIndex={0} className="rounded-key decoration-dotted underline-offset-4 hover:underline">
            {children}
          </span>
        </Tooltip.Trigger>
        <Tooltip.Portal>
          <Tooltip.Content sideOffset={5} collisionPadding={8} className="plate z-30 px-2.5 py-1.5 text-fine">
            {text}
          </Tooltip.Content>
        </Tooltip.Portal>
      </Tooltip.Root>
    </Tooltip.Provider>
  )
}
