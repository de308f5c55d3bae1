// When each step of a handover can be done, before anything is touched. The parent and both sides are asked for it, so only on request.
import { useState } from 'react'
import { useForecast } from '../../../api/hooks'
import type { DelegateRequest, Forecast } from '../../../api/types'
import { Check } from '../../../parts/check'
import { Findings } from '../../../parts/findings'
import { Key, Plate, Trouble } from '../../../parts/kit'
import { moment, span } from '../../../parts/text'

type Props = { name: string; how: DelegateRequest }

export function Timetable({ name, how }: Props) {
  const [asked, setAsked] = useState(false)
  const [sign, setSign] = useState(false)
  const [keepOld, setKeepOld] = useState(false)
  const forecast = useForecast(name, { to: '', nameservers: how.nameservers, agree: how.agree, sign, keep_old: keepOld, grace: null, publish: null, window: '', timezone: '' }, asked)
  return (
    <Plate title="Timetable" aside="before anything is changed">
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <Check checked={sign} onChange={setSign}>
          Publish a DS at the end
        </Check>
        <Check checked={keepOld} onChange={setKeepOld}>
          Keep the old zone
        </Check>
        <Key busy={forecast.isFetching} onClick={() => (asked ? void forecast.refetch() : setAsked(true))}>
          {asked ? 'Compute timetable again' : 'Compute timetable'}
        </Key>
      </div>
      {forecast.error && <Trouble error={forecast.error} />}
      {forecast.data && <Steps forecast={forecast.data} />}
    </Plate>
  )
}

function Steps({ forecast: f }: { forecast: Forecast }) {
  const now = Date.parse(f.now)
  return (
    <div className="mt-4">
      <ol className="grid gap-3">
        {f.steps.map((s) => {
          const at = Date.parse(s.at)
          return (
            <li key={`${s.at} ${s.text}`} className="grid gap-x-5 sm:grid-cols-[11rem_1fr]">
              <p>
                <span className={s.do ? 'font-semibold' : 'text-soft'}>{at > now ? `in ${span(at - now)}` : 'now'}</span>{' '}
                <span className="data block text-fine text-soft">{moment(at, now)}</span>
              </p>
              <div>
                <p className={s.do ? 'font-semibold' : 'text-soft'}>
                  {s.text}
                  {s.until && ` (${moment(Date.parse(s.until), now)})`}
                </p>
                {s.command && <p className="data text-fine text-soft">{s.command}</p>}
              </div>
            </li>
          )
        })}
      </ol>
      {f.closed.length > 0 && (
        <div className="mt-4 grid gap-2">
          <p>A gate is closed that the handover cannot open by itself. Nothing was changed.</p>
          <Findings list={f.closed} />
        </div>
      )}
      {f.ends && <p className="mt-4 text-soft">The times hold if each step is done as soon as it may be, and the registry serves a change within five minutes.</p>}
    </div>
  )
}
