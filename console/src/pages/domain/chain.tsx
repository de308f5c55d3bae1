// The chain that a query takes, side by side: the registrar has, the parent serves, the nameservers answer, the
// resolvers see. What differs from the desired is marked where it differs.
import { Fragment } from 'react'
import { Link } from 'react-router'
import { useWorld } from '../../api/clock'
import { useCheck, useDomain, useReport } from '../../api/hooks'
import type { Finding, Report, ResolverView, Source } from '../../api/types'
import { Findings } from '../../parts/findings'
import { Empty, Key, Plate, Shown } from '../../parts/kit'
import { Lamp, type Light } from '../../parts/lamp'
import { MarkedName, Names } from '../../parts/names'
import { EmptyHarbour } from '../../parts/pictures'
import { moment, plain, span } from '../../parts/text'
import { useName } from './domain'
import { Answers } from './answers'
import { Settles } from './settles'
import { SettlingPicture } from './settling'
import { Sites } from './sites'
import { Unfold } from '../../parts/unfold'

export function Chain() {
  const name = useName()
  const domain = useDomain(name)
  const checked = !!domain.data?.checked_at
  const report = useReport(name, checked)
  const check = useCheck(name)
  if (!checked) {
    return (
      <Empty picture={<EmptyHarbour />} title="This domain has not been checked yet">
        <p>A check asks the registrar, every parent server, every nameserver and every resolver. The first check starts soon after a definition is accepted.</p>
        <Key weight="main" className="mt-3" busy={check.isPending} onClick={() => check.mutate()}>
          Check now
        </Key>
      </Empty>
    )
  }
  return <Shown query={report}>{(r) => <Seen report={r} />}</Shown>
}

function Seen({ report: r }: { report: Report }) {
  const findings = r.findings.filter((f) => f.code !== 'resolver-still-old') // the last column says it
  const grave = findings.some((f) => f.severity === 'error') // what needs action comes first
  return (
    <div className="grid gap-5">
      {grave && <FindingsPlate list={findings} />}
      <Settles report={r} />
      <SettlingPicture report={r} />
      <section aria-label="The chain" className="grid gap-3 md:grid-cols-2 xl:grid-cols-4">
        <RegistrarSays report={r} />
        <ParentServes report={r} />
        <NameserversAnswer report={r} />
        <ResolversSee report={r} />
      </section>
      <Signatures report={r} />
      {!grave && findings.length > 0 && <FindingsPlate list={findings} />}
      <Sites report={r} />
      <Answers name={plain(r.domain)} />
      <p>
        <Link className="link" to={`/domains/${encodeURIComponent(plain(r.domain))}/report`}>
          A report for printing
        </Link>
      </p>
    </div>
  )
}

function FindingsPlate({ list }: { list: Finding[] }) {
  return (
    <Plate title="Findings" aside="most severe first, each with its fix">
      <Findings list={list} />
    </Plate>
  )
}

const signed: Record<string, { light: Light; text: string }> = {
  secure: { light: 'settled', text: 'Signed, with a valid chain from the root.' },
  insecure: { light: 'none', text: 'The domain is not signed, and the parent has no DS.' },
  bogus: { light: 'alarm', text: 'Validating resolvers refuse the domain’s answers. The findings say why.' },
}

/** Whether the domain can be validated, where that was looked at. */
function Signatures({ report: r }: { report: Report }) {
  const state = signed[r.dnssec]
  if (!state) return null
  return (
    <section aria-label="Signatures" className="plate flex flex-wrap items-center gap-x-3 gap-y-1 p-4">
      <Lamp light={state.light} />
      <h2 className="font-semibold">Signatures (DNSSEC): {r.dnssec}</h2>
      <p className="text-soft">{state.text}</p>
    </section>
  )
}

const key = (list: string[]) => list.map(plain).sort().join(' ')

/** How a nameserver set compares with the desired one. */
function against(set: string[], report: Report): Light {
  if (set.length === 0) return 'none'
  if (report.wanted.length === 0 || key(set) === key(report.wanted)) return 'settled'
  return report.old && key(set) === key(report.old) ? 'settling' : 'alarm'
}

function Column({ step, title, light, children }: { step: number; title: string; light: Light; children: React.ReactNode }) {
  return (
    <div className="plate relative min-w-0 p-4">
      <h2 className="mb-2 flex items-center gap-2 font-semibold">
        <Lamp light={light} />
        {title}
      </h2>
      <div className="grid gap-3">{children}</div>
      {step < 4 && <span aria-hidden="true" className="absolute top-4 -right-[1.05rem] z-1 hidden size-5 rotate-45 border-t-2 border-r-2 border-line-strong bg-ground xl:block" />}
    </div>
  )
}

function RegistrarSays({ report: r }: { report: Report }) {
  const g = r.registrar
  const listed = g && g.active.length === 0 && g.listed ? g.listed : undefined // by RDAP: no account here holds the registration
  const waiting = g && g.saved.length > 0 && key(g.saved) !== key(g.active)
  return (
    <Column step={1} title="Registrar" light={!g ? 'none' : g.problem ? 'unknown' : against(listed ?? g.active, r)}>
      {!g && <p className="text-soft">No registrar account is named for this domain.</p>}
      {g?.problem && <p className="text-unknown">{g.problem}</p>}
      {g && !g.problem && (
        <div>
          <p className="text-fine text-soft">{listed ? `${g.account} lists` : `${g.account}, active`}</p>
          <Names list={listed ?? g.active} wanted={r.wanted} />
        </div>
      )}
      {waiting && (
        <div className="rounded-key bg-settling-wash p-2.5">
          <p className="text-fine font-semibold text-settling">Saved, not active</p>
          <Names list={g.saved} wanted={r.wanted} />
        </div>
      )}
      {r.wanted.length > 0 && (
        <Unfold className="text-fine" tone="text-soft" summary="Desired nameservers">
          <Names list={r.wanted} />
        </Unfold>
      )}
    </Column>
  )
}

function ParentServes({ report: r }: { report: Report }) {
  const lights = r.parents.map((p) => (p.problem ? 'unknown' : against(p.nameservers, r)))
  return (
    <Column step={2} title="Parent serves" light={worst(lights)}>
      <Sources sources={r.parents} report={r} fact={(s) => `TTL ${s.ttl}`} />
    </Column>
  )
}

function NameserversAnswer({ report: r }: { report: Report }) {
  const inForce = new Set(r.parents.flatMap((p) => p.nameservers))
  const before = (s: Source) => r.old?.includes(s.name) || (r.wanted.length > 0 && !r.wanted.includes(s.name)) // left, and still asked
  const groups: [string, Source[]][] = [
    ['active', r.servers.filter((s) => inForce.has(s.name))],
    ['the old ones', r.servers.filter((s) => !inForce.has(s.name) && before(s))],
    ['desired', r.servers.filter((s) => !inForce.has(s.name) && !before(s))],
  ]
  const light = worst(groups[0]![1].map((s) => (s.problem ? 'alarm' : against(s.nameservers, r))))
  return (
    <Column step={3} title="Nameservers answer" light={light}>
      {groups.map(([label, sources]) =>
        sources.length === 0 ? null : (
          <Fragment key={label}>
            <div>
              <p className="mb-1 text-fine font-semibold text-soft">{label}</p>
              <Sources sources={sources} report={r} fact={(s) => `serial ${s.serial ?? 'not known'}`} own />
            </div>
          </Fragment>
        ),
      )}
    </Column>
  )
}

function worst(lights: Light[]): Light {
  return (['alarm', 'unknown', 'none', 'settling', 'settled'] as const).find((l) => lights.includes(l)) ?? 'none'
}

/** Servers with what they gave; those that give the same as the one above are said in short. */
function Sources({ sources, report, fact, own }: { sources: Source[]; report: Report; fact: (s: Source) => string; own?: boolean }) {
  return (
    <ul className="grid gap-2">
      {sources.map((s, i) => {
        const before = sources[i - 1]
        const same = !s.problem && before && !before.problem && key(before.nameservers) === key(s.nameservers)
        return (
          <li key={s.name + s.address} className="border-t border-line pt-2 first:border-0 first:pt-0">
            <p className="flex flex-wrap justify-between gap-x-2">
              <span className="data">{own ? <MarkedName name={s.name} wanted={report.old?.includes(s.name) ? [] : report.wanted} /> : plain(s.name)}</span>
              {!s.problem && <span className="text-fine text-soft">{fact(s)}</span>}
            </p>
            {s.problem ? <p className="text-fine text-alarm">{s.problem}</p> : same ? <p className="text-fine text-soft">the same</p> : <Names list={s.nameservers} wanted={report.wanted} />}
          </li>
        )
      })}
    </ul>
  )
}

const sees: Record<string, { light: Light; word: string }> = {
  new: { light: 'settled', word: 'the new' },
  current: { light: 'settled', word: 'the active set' },
  old: { light: 'settling', word: 'still the old' },
  other: { light: 'alarm', word: 'something else' },
  unknown: { light: 'unknown', word: 'check failed' },
}

function ResolversSee({ report: r }: { report: Report }) {
  return (
    <Column step={4} title="Resolvers see" light={worst(r.resolvers.map((v) => sees[v.sees]?.light ?? 'unknown'))}>
      {r.resolvers.length === 0 && <p className="text-soft">No resolver is named in the settings.</p>}
      <ul className="grid gap-2">
        {r.resolvers.map((v) => (
          <Resolver key={v.name} view={v} wanted={r.wanted} />
        ))}
      </ul>
    </Column>
  )
}

function Resolver({ view: v, wanted }: { view: ResolverView; wanted: string[] }) {
  const world = useWorld(500)
  const { light, word } = sees[v.sees] ?? { light: 'unknown' as const, word: v.sees }
  return (
    <li className="border-t border-line pt-2 first:border-0 first:pt-0">
      <p className="flex items-center gap-2">
        <Lamp light={light} size={14} />
        <span className="font-semibold">{v.name}</span>
        <span className="text-fine text-soft">{word}</span>
      </p>
      {v.group && <p className="text-fine text-soft">{v.group}</p>}
      {v.problem && <p className="text-fine text-unknown">{v.problem}</p>}
      {v.through && (
        <p className="text-fine text-soft">
          through <span className="data">{light === 'settled' ? plain(v.through) : <MarkedName name={v.through} wanted={wanted} />}</span>
        </p>
      )}
      {v.until && world && (
        <p className="text-fine text-settling">
          expires by {moment(Date.parse(v.until), world.now)}, in {span(Date.parse(v.until) - world.now)}
        </p>
      )}
    </li>
  )
}
