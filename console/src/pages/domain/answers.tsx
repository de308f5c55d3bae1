// The raw responses of the last check, in presentation form, by server.
import { useAnswers } from '../../api/hooks'
import type { Heard } from '../../api/types'
import { Plate, Shown } from '../../parts/kit'
import { plain } from '../../parts/text'
import { Unfold } from '../../parts/unfold'

export function Answers({ name }: { name: string }) {
  return (
    <Plate>
      <Unfold heading summary="Raw responses of this check">
        <List name={name} />
      </Unfold>
    </Plate>
  )
}

function List({ name }: { name: string }) {
  const answers = useAnswers(name)
  return (
    <Shown query={answers}>
      {({ items }) => (
        <div className="mt-3 grid gap-4">
          {byServer(items).map(([who, list]) => (
            <section key={who} aria-label={who}>
              <h3 className="font-semibold wrap-anywhere">{who}</h3>
              <ul className="mt-1 grid gap-2">
                {list.map((h, i) => (
                  <li key={i} className="rounded-key bg-sunken p-2">
                    <p className="flex flex-wrap justify-between gap-x-3">
                      <span className="data">{h.asked}</span>
                      <span className={`text-fine ${h.problem ? 'text-alarm' : 'text-soft'}`}>
                        {h.problem ?? h.says} {h.took > 0 && `· ${h.over}, ${h.took.toFixed(1)} ms`}
                      </span>
                    </p>
                    <Section lines={h.answer} label="answer" />
                    <Section lines={h.authority} label="authority" />
                    <Section lines={h.additional} label="additional" />
                    <Section lines={h.explained} label="it says" />
                  </li>
                ))}
              </ul>
            </section>
          ))}
        </div>
      )}
    </Shown>
  )
}

function Section({ lines, label }: { lines?: string[] | null; label: string }) {
  if (!lines?.length) return null
  return (
    <div className="mt-1 grid grid-cols-[5.500rem_1fr] text-fine">
      <span className="text-soft">{label}</span>
      <div className="data min-w-0">
        {lines.map((l, i) => (
          <p key={i} className="wrap-anywhere">
            {l}
          </p>
        ))}
      </div>
    </div>
  )
}

function byServer(items: Heard[]): [string, Heard[]][] {
  const groups = new Map<string, Heard[]>()
  for (const h of items) {
    const who = h.name && h.name !== '.' ? `${plain(h.name)} (${h.address})` : h.address
    groups.set(who, [...(groups.get(who) ?? []), h])
  }
  return [...groups].sort(([a], [b]) => a.localeCompare(b))
}
