import { format } from 'date-fns'
import { CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import type { Tag } from '~/contract/tag'
import { formatValue } from '~/core/value/format'
import { serverNow } from '~/ui/clock'
import { useSpark } from '../app/live/live'
import { gridLook, tickLook, tipLook } from '../shared/chart-look'

/** Between two points of what the engine remembers, ms. */
const EVERY_MS = 5000
const POINTS = 120

/** The last ten minutes of a tag, drawn as its chart settings say; gaps where it had no usable value. */
export function TagChart({ tag, bad }: { tag: Tag; bad: boolean }) {
  const points = useSpark(tag.handle) ?? []
  const now = Math.floor(serverNow() / EVERY_MS) * EVERY_MS
  const data = points.map((value, i) => ({ at: now - (points.length - 1 - i) * EVERY_MS, value }))
  const drawn = data.filter((d) => d.value !== null).length
  if (drawn < 2)
    return (
      <div className="grid h-[132px] place-items-center text-muted">
        {tag.dataType === 'text' || tag.dataType === 'boolean' || tag.dataType === 'time'
          ? 'Only numbers are drawn.'
          : 'Numbers of the last ten minutes show here.'}
      </div>
    )
  const low = tag.chart?.low ?? null
  const high = tag.chart?.high ?? null
  return (
    <div className="h-[132px]" role="img" aria-label={`The last ten minutes of ${tag.name}`}>
      <ResponsiveContainer>
        <LineChart data={data} margin={{ top: 6, right: 6, bottom: 0, left: 0 }}>
          <CartesianGrid {...gridLook} vertical={false} />
          <XAxis
            dataKey="at"
            type="number"
            domain={[now - (POINTS - 1) * EVERY_MS, now]}
            ticks={[now - 540_000, now - 360_000, now - 180_000, now]}
            tickFormatter={(t: number) => format(t, 'HH:mm')}
            tick={tickLook}
            stroke="var(--line)"
            height={18}
          />
          <YAxis
            domain={[low ?? 'auto', high ?? 'auto']}
            allowDataOverflow={low !== null || high !== null}
            width={46}
            tickCount={4}
            tickFormatter={(v: number) => formatValue(Number(v.toPrecision(6)), tag)}
            tick={tickLook}
            stroke="var(--line)"
          />
          <Tooltip
            isAnimationActive={false}
            labelFormatter={(t) => format(Number(t), 'HH:mm:ss')}
            formatter={(v) => [`${formatValue(Number(v), tag)} ${tag.unit}`, '']}
            separator=""
            contentStyle={tipLook}
          />
          <Line
            dataKey="value"
            type={tag.chart?.line === 'steps' ? 'stepAfter' : 'linear'}
            stroke={bad ? 'var(--bad)' : 'var(--slate)'}
            strokeWidth={1.4}
            dot={false}
            isAnimationActive={false}
            connectNulls={false}
          />
        </LineChart>
      </ResponsiveContainer>
    </div>
  )
}
