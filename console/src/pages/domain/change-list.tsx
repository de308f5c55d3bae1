// A change list as lines that go and lines that come, and what else differs.
import type { ReactNode } from 'react'
import type { DiffItem, RecordSet, Step } from '../../api/types'
import { relative } from '../../parts/text'
import { Unfold } from '../../parts/unfold'

const none = (s: RecordSet) => s.data.length === 0

/** Its records stay, and only what the provider keeps beside them changes; or the reason has the fields that change. */
const stays = (s: Step) => s.after.type === 'SOA' || Object.keys(s.attributes ?? {}).length > 0 && s.before.ttl === s.after.ttl && s.before.data.join('\n') === s.after.data.join('\n')

export function ChangeList({ steps, zone }: { steps: Step[]; zone: string }) {
  const add = steps.filter((s) => none(s.before)).length
  const drop = steps.filter((s) => none(s.after)).length
  return (
    <>
      <p className="mb-2 font-semibold">
        {add} to add, {steps.length - add - drop} to change, {drop} to remove
      </p>
      <ul className="overflow-hidden rounded-key border border-line">
        {steps.map((s, i) => (
          <li key={i} className="border-b border-line last:border-0">
            {stays(s) && (
              <p className="data grid grid-cols-[1rem_1fr] gap-x-3 bg-settling-wash px-3 py-1 sm:grid-cols-[1rem_12rem_1fr]">
                <span aria-hidden="true" className="font-semibold">
                  ~
                </span>
                <span className="font-semibold">
                  {relative(s.after.name, zone)} {s.after.type}
                </span>
                <span className="max-sm:col-start-2">
                  {s.reason.split('; ').map((part) => (
                    <span key={part} className="block">
                      {part}
                    </span>
                  ))}
                </span>
              </p>
            )}
            {!stays(s) && !none(s.before) && <Line sign="−" word="goes" set={s.before} zone={zone} tone="bg-alarm-wash" />}
            {!stays(s) && !none(s.after) && <Line sign="+" word="comes" set={s.after} zone={zone} tone="bg-settled-wash" />}
          </li>
        ))}
      </ul>
    </>
  )
}

function Line({ sign, word, set, zone, tone }: { sign: string; word: string; set: RecordSet; zone: string; tone: string }) {
  return (
    <div className={`data grid grid-cols-[1rem_1fr_auto] gap-x-3 px-3 py-1 sm:grid-cols-[1rem_12rem_4rem_1fr] ${tone}`}>
      <span aria-hidden="true" className="font-semibold">
        {sign}
      </span>
      <span className="sr-only">{word}</span>
      <span className="font-semibold">
        {relative(set.name, zone)} {set.type}
      </span>
      <span className="text-right">{set.ttl}</span>
      <span className="max-sm:col-span-2 max-sm:col-start-2">
        {set.data.map((d) => (
          <span key={d} className="block">
            {d}
          </span>
        ))}
      </span>
    </div>
  )
}

export function Items({ title, list, zone, children }: { title: string; list: DiffItem[]; zone: string; children?: ReactNode }) {
  if (list.length === 0) return null
  return (
    <section className="mt-4">
      <h3 className="font-semibold">
        {title} ({list.length})
      </h3>
      {list.length > few ? (
        <>
          <Sets list={list.slice(0, few)} zone={zone} />
          <Unfold className="mt-2" summary={<span className="font-semibold">{list.length - few} more</span>}>
            <Sets list={list.slice(few)} zone={zone} />
          </Unfold>
        </>
      ) : (
        <Sets list={list} zone={zone} />
      )}
      {children}
    </section>
  )
}

const few = 4

function Sets({ list, zone }: { list: DiffItem[]; zone: string }) {
  return (
      <ul className="mt-1 grid gap-2">
        {list.map((item, i) => (
          <li key={i} className="rounded-key bg-sunken p-2.5">
            <p className="data font-semibold">
              {relative(item.key.name, zone)} {item.key.type}
            </p>
            <dl className="data grid grid-cols-[auto_1fr] gap-x-3">
              <dt className="font-sans text-soft">desired</dt>
              <dd>{text(item.wanted)}</dd>
              <dt className="font-sans text-soft">there now</dt>
              <dd>{text(item.live)}</dd>
            </dl>
            <p className="text-soft">{item.why}</p>
          </li>
        ))}
      </ul>
  )
}

const text = (s: RecordSet) => (none(s) ? 'nothing' : `${s.ttl} ${s.data.join(' | ')}`)
