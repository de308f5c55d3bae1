// Nameservers, one a line, with the characters marked that differ from what is wanted.
import { another, marked, plain } from './text'

export function Names({ list, wanted = [], none = 'none' }: { list: string[]; wanted?: string[]; none?: string }) {
  if (list.length === 0) return <p className="text-soft">{none}</p>
  return (
    <ul className="data grid gap-0.5">
      {list.map((name) => (
        <li key={name}>
          <MarkedName name={name} wanted={wanted} />
        </li>
      ))}
    </ul>
  )
}

export function MarkedName({ name, wanted }: { name: string; wanted: string[] }) {
  if (another(name, wanted)) return <span className="underline decoration-settling decoration-dotted decoration-2 underline-offset-3">{plain(name)}</span>
  return marked(name, wanted).map((p, i) => (p.differs ? <mark key={i}>{p.text}</mark> : <span key={i}>{p.text}</span>))
}
