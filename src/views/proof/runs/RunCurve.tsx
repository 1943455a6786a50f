import { CartesianGrid, Line, LineChart, ReferenceArea, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import type { ProofReport } from '~/contract/prove'
import { piecesOf } from '~/core/prove/measure'
import { durationText } from '~/ui/time'
import { gridLook, tickLook, tipLook } from '../../shared/chart-look'

/** Points are seen where they are few. */
const lone = { r: 1.2, strokeWidth: 0.8 }

/** Latency over a run: half of the messages and 99 of 100 within, with the faults behind. */
export function RunCurve({ report }: { report: ProofReport }) {
  const { curve, seconds } = report
  const faults = report.faults.filter((f) => f.begun)
  if (curve.length < 2) return <p className="text-muted">Too little arrived for a curve.</p>
  const end = Math.max(seconds, curve.at(-1)!.atS)
  // Between two pieces there is no line.
  const data = piecesOf(curve).flatMap((piece, i) => (i === 0 ? piece : [{ atS: piece[0]!.atS - 0.5, p50: null, p99: null }, ...piece]))
  const least = Math.max(0.1, Math.min(...curve.map((p) => p.p50)) / 1.5)
  const most = Math.max(10, ...curve.map((p) => p.p99)) * 1.5
  const ticks = Array.from({ length: 9 }, (_, i) => 10 ** (i - 1)).filter((ms) => ms >= least && ms <= most)
  return (
    <figure>
      <figcaption className="flex gap-4 text-xs text-muted">
        <span className="mr-auto">Device time to witness, over the run</span>
        <span className="text-clay">99 of 100 within</span>
        <span className="text-slate">half within</span>
        {faults.length > 0 && <span className="text-bad">faults</span>}
      </figcaption>
      <div className="h-[170px]" role="img" aria-label="Latency over the run">
        <ResponsiveContainer>
          <LineChart data={data} margin={{ top: 6, right: 8, bottom: 0, left: 0 }}>
            <CartesianGrid {...gridLook} vertical={false} />
            <XAxis
              dataKey="atS"
              type="number"
              domain={[0, end]}
              tickFormatter={(s: number) => `${s} s`}
              tick={tickLook}
              stroke="var(--line)"
              height={18}
            />
            <YAxis
              scale="log"
              domain={[least, most]}
              ticks={ticks}
              width={56}
              tickFormatter={(v: number) => durationText(v)}
              tick={tickLook}
              stroke="var(--line)"
            />
            <Tooltip
              isAnimationActive={false}
              labelFormatter={(s) => `after ${s} s`}
              formatter={(v, name) => [durationText(Number(v)), name === 'p99' ? '99 of 100 within' : 'half within']}
              contentStyle={tipLook}
            />
            {faults.map((f) => (
              <ReferenceArea
                key={`${f.words} ${f.atS}`}
                x1={f.atS}
                x2={Math.min(end, f.atS + Math.max(f.forS, end / 200))}
                fill="var(--bad)"
                fillOpacity={0.12}
              />
            ))}
            <Line dataKey="p99" stroke="var(--clay)" strokeWidth={1.4} dot={lone} isAnimationActive={false} />
            <Line dataKey="p50" stroke="var(--slate)" strokeWidth={1.4} dot={lone} isAnimationActive={false} />
          </LineChart>
        </ResponsiveContainer>
      </div>
    </figure>
  )
}
