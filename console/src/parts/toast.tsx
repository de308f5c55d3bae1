// Short words about what was just done, at the edge of the page; they go by themselves.
import { Toast } from 'radix-ui'
import { createContext, type ReactNode, useCallback, useContext, useState } from 'react'

type Said = { id: number; text: string }
const Say = createContext<(text: string) => void>(() => {})

/** Returns what shows a text for a few seconds. */
export const useToast = () => useContext(Say)

let numbered = 0

export function Toasts({ children }: { children: ReactNode }) {
  const [list, setList] = useState<Said[]>([])
  const say = useCallback((text: string) => setList((l) => [...l, { id: ++numbered, text }]), [])
  return (
    <Say.Provider value={say}>
      <Toast.Provider swipeDirection="right" duration={5000} label="Message">
        {children}
        {list.map((s) => (
          <Toast.Root key={s.id} onOpenChange={(open) => !open && setList((l) => l.filter((o) => o.id !== s.id))} className="plate flex items-start gap-3 border-l-4 border-l-settled p-3">
            <Toast.Description className="min-w-0 flex-1 wrap-anywhere">{s.text}</Toast.Description>
            <Toast.Close aria-label="Close" className="rounded-key px-1.5 text-soft hover:bg-sunken">
              ×
            </Toast.Close>
          </Toast.Root>
        ))}
        <Toast.Viewport className="fixed right-3 bottom-3 z-50 grid w-[min(24rem,calc(100vw-1.5rem))] gap-2 outline-none" />
      </Toast.Provider>
    </Say.Provider>
  )
}
