import { format } from 'date-fns'
import { CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import type { ComparePair } from '~/contract/compare'
import { figureText } from '~/core/compare/words'
import { gridLook, tickLook, tipLook } from '../../shared/chart-look'

interface Moment {
  at: number
  held?: number | null
  came?: number | null
}

/** Both curves over one time; each has its own moments. */
function momentsOf({ held, came }: NonNullable<ComparePair['curves']>): Moment[] {
  const all = new Map<number, Moment>()
  const of = (at: number) => {
    const known = all.get(at) ?? { at }
    all.set(at, known)
    return known
  }
  for (const [at, value] of held) of(at).held = value
  for (const [at, value] of came) of(at).came = value
  return filled([...all.values()].sort((a, b) => a.at - b.at))
}

/** Both hold what they had until something else comes. */
function filled(moments: Moment[]): Moment[] {
  let held: number | null | undefined
  let came: number | null | undefined
  return moments.map((m) => {
    if (m.held !== undefined) held = m.held
    if (m.came !== undefined) came = m.came
    return { at: m.at, ...(held !== undefined && { held }), ...(came !== undefined && { came }) }
  })
}

/** What a tag had, as it is stated to be converted, and what arrived of it. */
export function PairChart({ pair, from, to }: { pair: ComparePair; from: number; to: number }) {
  const curves = pair.curves
  if (!curves || curves.held.length + curves.came.length < 2)
    return <div className="grid h-[190px] place-items-center text-muted">{pair.most === null ? 'Only numbers are drawn.' : 'Nothing moved.'}</div>
  const data = momentsOf(curves)
  const begin = Math.min(from, data[0]!.at)
  const end = Math.max(to, data.at(-1)!.at)
  const unit = pair.came.unit || pair.unit
  return (
    <div className="h-[190px]" role="img" aria-label={`What ${pair.tag} had and what arrived of it`}>
      <ResponsiveContainer>
        <LineChart data={data} margin={{ top: 6, right: 6, bottom: 0, left: 0 }}>
          <CartesianGrid {...gridLook} vertical={false} />
          <XAxis
            dataKey="at"
            type="number"
            domain={[begin, end]}
            ticks={[0.1, 0.5, 0.9].map((share) => begin + (end - begin) * share)}
            tickFormatter={(t: number) => format(t, 'HH:mm:ss')}
            tick={tickLook}
            stroke="var(--line)"
            height={18}
          />
          <YAxis
            domain={['auto', 'auto']}
            width={52}
            tickCount={5}
            tickFormatter={(v: number) => figureText(v)}
            tick={tickLook}
            stroke="var(--line)"
          />
          <Tooltip
            isAnimationActive={false}
            labelFormatter={(t) => format(Number(t), 'HH:mm:ss.SSS')}
            formatter={(v, name) => [`${figureText(Number(v))} ${unit}`, name === 'held' ? 'had' : 'came']}
            contentStyle={tipLook}
          />
          <Line dataKey="held" type="stepAfter" stroke="var(--slate)" strokeWidth={2.6} strokeOpacity={0.45} dot={false} isAnimationActive={false} />
          <Line dataKey="came" type="stepAfter" stroke="var(--clay)" strokeWidth={1.2} dot={false} isAnimationActive={false} />
        </LineChart>
      </ResponsiveContainer>
    </div>
  )
}
