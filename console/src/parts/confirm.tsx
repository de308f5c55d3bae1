// Asks before what cannot be taken back, and says what happens.
import { AlertDialog } from 'radix-ui'
import type { ReactNode } from 'react'
import { Key } from './kit'

type ConfirmProps = { title: string; children: ReactNode; action: string; busy?: boolean; open: boolean; onOpen: (open: boolean) => void; onConfirm: () => void }

export function Confirm({ title, children, action, busy, open, onOpen, onConfirm }: ConfirmProps) {
  return (
    <AlertDialog.Root open={open} onOpenChange={onOpen}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-30 bg-deep-950/60" />
        <AlertDialog.Content className="plate fixed top-1/2 left-1/2 z-40 grid max-h-[85dvh] w-[min(32rem,calc(100vw-2rem))] -translate-x-1/2 -translate-y-1/2 gap-3 overflow-y-auto p-5">
          <AlertDialog.Title className="text-lead font-semibold wrap-anywhere">{title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div>{children}</div>
          </AlertDialog.Description>
          <div className="mt-2 flex flex-wrap justify-end gap-3">
            <AlertDialog.Cancel asChild>
              <Key>Cancel</Key>
            </AlertDialog.Cancel>
            <Key weight="grave" busy={busy} onClick={onConfirm}>
              {action}
            </Key>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  )
}
