import { Link } from 'react-router'
import { PageHead } from '../parts/kit'

export function NotHere() {
  return (
    <>
      <PageHead title="No such page" lead="The address may be mistyped, or from an older version." />
      <Link className="link" to="/">
        Today
      </Link>
    </>
  )
}
