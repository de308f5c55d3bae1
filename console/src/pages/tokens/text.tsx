// The text of a new token, which is shown once.
import { Key, Plate } from '../../parts/kit'
import { plain, wall } from '../../parts/text'

export function Text({ made, close }: { made: { name: string; token: string; until?: string | null }; close: () => void }) {
  return (
    <Plate title={`Token ${plain(made.name)}`} className="mb-5 border-2 border-settling">
      <p>
        It is shown <strong>only once</strong>: copy it now. Programs send it as <span className="data">Authorization: Bearer</span>; beacon reads it from{' '}
        <span className="data">BEACON_TOKEN</span>.
      </p>
      <p className="data my-3 rounded-key bg-sunken p-3 wrap-anywhere select-all">{made.token}</p>
      {made.until && <p className="mb-3">The text until now is valid until {wall(made.until)}.</p>}
      <Key onClick={close}>Close</Key>
    </Plate>
  )
}
