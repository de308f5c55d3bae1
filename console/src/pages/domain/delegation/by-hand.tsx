// A list that a person enters at the registrar: each name to copy, how far it got, and what forms object to.
import { useState } from 'react'
import type { Delegated } from '../../../api/types'
import { Key, Notice, Plate } from '../../../parts/kit'
import { useToast } from '../../../parts/toast'
import { Unfold } from '../../../parts/unfold'

type ByHandProps = { plan: Delegated; busy: boolean; begin?: () => void }

export function ByHand({ plan, busy, begin }: ByHandProps) {
  const hand = plan.by_hand!
  const [dots, setDots] = useState(false)
  const say = useToast()
  const list = dots ? hand.with_dot : hand.names
  const complete = hand.entered.missing.length + hand.entered.wrong.length + hand.entered.extra.length === 0
  const copy = (text: string, what: string) => void navigator.clipboard.writeText(text).then(() => say(`Copied: ${what}`))
  return (
    <>
      <Notice light={complete ? 'settled' : hand.has_begun ? 'alarm' : 'settling'} title={hand.entered.say}>
        {hand.entered.do}
      </Notice>
      {!complete && (
        <Plate title="Enter these at the registrar, and nothing else" aside="no registrar account is connected for this domain">
          <ul className="grid gap-1.5">
            {list.map((name) => (
              <li key={name} className="flex flex-wrap items-center gap-3">
                <span className="data min-w-60 select-all">{name}</span>
                <Key weight="quiet" aria-label={`Copy ${name}`} onClick={() => copy(name, name)}>
                  Copy
                </Key>
              </li>
            ))}
          </ul>
          <div className="mt-3 flex flex-wrap gap-3">
            <Key onClick={() => copy(list.join('\n'), `${list.length} names`)}>Copy all</Key>
            <Key aria-pressed={dots} onClick={() => setDots(!dots)}>
              {dots ? 'Without final dot' : 'With final dot'}
            </Key>
            {begin && !hand.has_begun && plan.closed.length === 0 && (
              <Key weight="main" busy={busy} onClick={begin}>
                I enter it now
              </Key>
            )}
          </div>
          <Unfold className="mt-3" summary="The form refuses it?">
            <ul className="mt-1 grid list-disc gap-1 pl-5">
              {hand.forms.map((f) => (
                <li key={f}>{f}</li>
              ))}
            </ul>
          </Unfold>
          <p className="mt-3 text-soft">Each check looks at the parent by itself; there is nothing to report here.</p>
        </Plate>
      )}
    </>
  )
}
