// Small plots of the last 30 days, from hourly figures.
import { useId } from 'react'
import { Area, AreaChart, Bar, BarChart, CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import type { TodaySample } from '../../api/types'
import { Plate } from '../../parts/kit'
import { standing } from '../../parts/lamp'
import { points, tones } from './points'

const two = (n: number) => String(n).padStart(2, '0')

export function Plots({ samples }: { samples: TodaySample[] }) {
  const list = points(samples)
  const hours = list.length > 1 ? (list.at(-1)!.at - list[0]!.at) / 3_600_000 : 0
  const when = (at: number) => {
    const d = new Date(at)
    return hours > 48 ? `${two(d.getMonth() + 1)}-${two(d.getDate())}` : `${two(d.getHours())}:${two(d.getMinutes())}`
  }
  if (list.length < 2)
    return (
      <Plate title="Last 30 days">
        <p className="text-soft">Figures are collected every hour (in the demo: every minute). Plots appear once there are two.</p>
      </Plate>
    )
  const axes = (unit?: string) => [
    <CartesianGrid key="g" vertical={false} stroke="var(--color-line)" />,
    <XAxis key="x" dataKey="at" type="number" scale="time" domain={['dataMin', 'dataMax']} tickFormatter={when} tick={tick} stroke="var(--color-line-strong)" minTickGap={40} />,
    <YAxis key="y" width={40} tick={tick} stroke="var(--color-line-strong)" allowDecimals={unit !== undefined} />,
    <Tooltip key="t" labelFormatter={(at) => new Date(Number(at)).toLocaleString('sv')} formatter={(v) => (unit ? `${Number(v).toFixed(2)}${unit}` : String(v))} contentStyle={box} isAnimationActive={false} />,
  ]
  return (
    <Plate title="Last 30 days" aside={hours < 24 * 29 ? `since ${new Date(list[0]!.at).toLocaleString('sv').slice(0, 16)}` : undefined}>
      <div className="grid gap-5 lg:grid-cols-3">
        <Plot title="Domains by state" legend={tones.filter(([s]) => list.some((p) => (p[s] ?? 0) > 0)).map(([s, c]) => [standing(s).word, c])}>
          <AreaChart data={list} margin={margin}>
            {axes()}
            {tones.map(([state, colour]) => (
              <Area key={state} type="stepAfter" dataKey={state} name={standing(state).word} stackId="1" stroke={colour} fill={colour} fillOpacity={0.55} isAnimationActive={false} />
            ))}
          </AreaChart>
        </Plot>
        <Plot title="Changes" legend={[['revisions accepted', 'var(--color-accent)'], ['syncs done', 'var(--color-settled)']]}>
          <BarChart data={list} margin={margin}>
            {axes()}
            <Bar dataKey="changes" name="revisions accepted" fill="var(--color-accent)" isAnimationActive={false} maxBarSize={14} />
            <Bar dataKey="syncs" name="syncs done" fill="var(--color-settled)" isAnimationActive={false} maxBarSize={14} />
          </BarChart>
        </Plot>
        <Plot title="Times, in seconds" legend={[['sync (median)', 'var(--color-settled)'], ['check (mean)', 'var(--color-unknown)']]}>
          <LineChart data={list} margin={margin}>
            {axes(' s')}
            <Line dataKey="sync" name="sync" stroke="var(--color-settled)" strokeWidth={2} dot={{ r: 2 }} connectNulls isAnimationActive={false} />
            <Line dataKey="check" name="check" stroke="var(--color-unknown)" strokeWidth={2} dot={{ r: 2 }} connectNulls isAnimationActive={false} />
          </LineChart>
        </Plot>
      </div>
    </Plate>
  )
}

const tick = { fill: 'var(--color-soft)', fontSize: 12 }
const margin = { top: 6, right: 8, bottom: 0, left: 0 }
const box = { background: 'var(--color-surface)', border: '1px solid var(--color-line-strong)', borderRadius: 6, color: 'var(--color-ink)', fontSize: 13 }

function Plot({ title, legend, children }: { title: string; legend: [string, string][]; children: React.ReactNode }) {
  const id = useId()
  return (
    <figure aria-labelledby={id} className="min-w-0">
      <figcaption id={id} className="font-semibold">
        {title}
      </figcaption>
      <ResponsiveContainer width="100%" height={170}>
        {children}
      </ResponsiveContainer>
      <ul className="mt-1 flex flex-wrap gap-x-3 text-fine text-soft">
        {legend.map(([word, colour]) => (
          <li key={word} className="flex items-center gap-1.5">
            <span aria-hidden="true" className="size-2.5 rounded-full" style={{ background: colour }} />
            {word}
          </li>
        ))}
      </ul>
    </figure>
  )
}
