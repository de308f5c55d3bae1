// Buttons.
import type { ButtonHTMLAttributes } from 'react'
import { Lamp } from './lamp'

type Weight = 'main' | 'plain' | 'quiet' | 'grave'

const weights: Record<Weight, string> = {
  main: 'bg-action text-on-action border-transparent hover:bg-action-hover',
  plain: 'bg-surface text-ink border-line-strong hover:border-accent hover:text-accent',
  quiet: 'bg-transparent text-accent border-transparent hover:bg-sunken',
  grave: 'bg-surface text-alarm border-alarm hover:bg-alarm-wash',
}

/** A button. While busy it keeps its size, takes no second press, and says so. */
export function Key({ weight = 'plain', busy, children, className = '', ...rest }: { weight?: Weight; busy?: boolean } & ButtonHTMLAttributes<HTMLButtonElement>) {
  return (
    <button
      type="button"
      {...rest}
      disabled={rest.disabled || busy}
      aria-busy={busy || undefined}
      className={`inline-flex min-h-10 items-center justify-center gap-2 rounded-key border px-4 py-1.5 font-semibold disabled:opacity-60 ${weights[weight]} ${className}`}
    >
      {busy && <Lamp light="settling" size={14} />}
      {children}
    </button>
  )
}
