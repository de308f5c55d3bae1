// A list that is drawn as far as one looks: the newest first, older ones when they are asked for. Where many come at
// once they are drawn in slices, so that the page stays at hand.
import { type ReactNode, useDeferredValue, useState } from 'react'
import { Key } from './kit'

type GrowingProps<T> = { items: T[]; by: number; older: string; className: string; children: (item: T, i: number) => ReactNode }

export function Growing<T>({ items, by, older, className, children }: GrowingProps<T>) {
  const [most, setMost] = useState(by)
  const drawn = useDeferredValue(items)
  return (
    <>
      <ol className={className}>{drawn.slice(0, most).map(children)}</ol>
      {drawn.length > most && (
        <Key className="mt-3" onClick={() => setMost(most + by)}>
          {older}
        </Key>
      )}
    </>
  )
}
