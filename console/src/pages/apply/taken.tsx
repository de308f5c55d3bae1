// What a definition does to one zone.
import type { Applied } from '../../api/types'
import { Findings } from '../../parts/findings'
import { Plate } from '../../parts/kit'
import { RecordLines } from '../../parts/record-lines'
import { count, plain } from '../../parts/text'
import { Unfold } from '../../parts/unfold'

export function Taken({ defined: d }: { defined: Applied }) {
  return (
    <Plate title={plain(d.zone)} aside={d.new ? 'new here' : 'managed already'}>
      <p>
        {count(d.added.length, 'record')} added, {d.removed.length} removed, {d.same} as before.
      </p>
      <p className="text-soft">
        Served at {d.providers.join(', ') || 'no provider'}
        {d.new_providers.length > 0 && ` (new: ${d.new_providers.join(', ')})`}
        {d.registrar && `; registered at ${d.registrar}`}.
      </p>
      {d.added.length + d.removed.length > 0 && (
        <Unfold className="mt-2" start={d.added.length + d.removed.length <= 40} summary={<span className="font-semibold">Records</span>}>
          <div className="mt-2">
            <RecordLines zone={d.zone} added={d.added} removed={d.removed} from={d.from} />
          </div>
        </Unfold>
      )}
      {d.findings.length > 0 && (
        <div className="mt-4">
          <h3 className="mb-2 font-semibold">What the rules say of it</h3>
          <Findings list={d.findings} />
        </div>
      )}
    </Plate>
  )
}
