import { Fragment } from 'react'
import { Link, useParams } from 'react-router'
import { plain } from './text'
import { remedyParts } from './remedy'

/** What to do, with links to the pages that do it. */
export function Remedy({ text }: { text: string }) {
  const zone = plain(useParams().name ?? '')
  return remedyParts(text, zone).map((p, i) =>
    p.to ? (
      <Link key={i} className="link" to={p.to}>
        {p.text}
      </Link>
    ) : (
      <Fragment key={i}>{p.text}</Fragment>
    ),
  )
}
