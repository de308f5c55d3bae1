// How far something is.
import { Progress } from 'radix-ui'

export function Bar({ done, of, label }: { done: number; of: number; label: string }) {
  const share = of > 0 ? Math.min(1, done / of) : 0
  return (
    <Progress.Root value={Math.min(done, of)} max={Math.max(1, of)} aria-label={label} className="mt-2 h-3 w-full overflow-hidden rounded-full bg-sunken">
      <Progress.Indicator className="h-full w-full origin-left bg-settling transition-transform" style={{ transform: `scaleX(${share})` }} />
    </Progress.Root>
  )
}
