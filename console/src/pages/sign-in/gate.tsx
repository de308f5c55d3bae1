// The frame of the pages before the sign-in.
import type { ReactNode } from 'react'
import { Mark } from '../../parts/mark'

export function Gate({ children }: { children: ReactNode }) {
  return (
    <div className="grid min-h-dvh bg-deep-900 sm:place-items-center sm:p-6">
      <main className="w-full sm:max-w-md">
        <div className="flex items-center gap-3 bg-deep-900 px-6 py-5 text-deep-50">
          <Mark size={48} />
          <div>
            <h1 className="text-head font-semibold">Agile Beacon</h1>
            <p className="text-deep-200">Where domains point, and who sees it yet</p>
          </div>
        </div>
        {children}
      </main>
    </div>
  )
}

/** How a form in the frame looks. */
export const gateForm = 'grid content-start gap-4 bg-surface p-6 max-sm:min-h-dvh sm:rounded-plate'

/** What went wrong with it. */
export function Refused({ error }: { error: Error }) {
  return (
    <p role="alert" className="rounded-key bg-alarm-wash p-3 text-alarm">
      {error.message}
    </p>
  )
}
