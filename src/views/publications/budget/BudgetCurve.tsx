import { CartesianGrid, ResponsiveContainer, Scatter, ScatterChart, Tooltip, XAxis, YAxis } from 'recharts'
import { bytesText } from '~/ui/time'
import { gridLook, tickLook } from '../../shared/chart-look'
import type { Reckoned } from './useBudgets'
import { aDay, lostText, octetsOf } from './words'

interface Point {
  key: string
  label: string
  lost: number
  octets: number
}

const OTHERS = 'var(--muted)'
const fills: Record<Reckoned['kind'], string> = {
  'as it is': 'var(--ink)',
  deadband: 'var(--clay)',
  pace: 'var(--slate)',
  gathered: OTHERS,
  shape: OTHERS,
  compressed: OTHERS,
}
const joined: readonly ('deadband' | 'pace')[] = ['deadband', 'pace']
const kindWords = { 'as it is': 'as it is', deadband: 'deadbands', pace: 'less often' } as const

/** Octets a day against what is lost: each way is a point, which can be chosen. */
export function BudgetCurve({ found, chosen, onChoose }: { found: readonly Reckoned[]; chosen: string | null; onChoose(key: string): void }) {
  const pointsOf = (kind: Reckoned['kind']): Point[] =>
    found
      .filter((r) => r.kind === kind)
      .flatMap(({ key, label, budget }) =>
        budget?.lost ? [{ key, label, lost: budget.lost.rms, octets: aDay(octetsOf(budget.would), budget) }] : [],
      )
      .sort((a, b) => a.lost - b.lost)
  const kinds = [...new Set(found.map((r) => r.kind))].filter((kind) => pointsOf(kind).length > 0)
  if (!kinds.some((kind) => kind !== 'as it is')) return null
  return (
    <figure>
      <figcaption className="flex flex-wrap gap-x-4 text-xs text-muted">
        <span className="mr-auto">Octets a day, against what is lost (RMS, as a share of what each number moved)</span>
        {(['as it is', ...joined] as const)
          .filter((kind) => kinds.includes(kind))
          .map((kind) => (
            <span key={kind} className="flex items-center gap-1">
              <i className="inline-block size-2 rounded-full" style={{ background: fills[kind] }} />
              {kindWords[kind]}
            </span>
          ))}
        {kinds.some((kind) => fills[kind] === OTHERS) && (
          <span className="flex items-center gap-1">
            <i className="inline-block size-2 rounded-full" style={{ background: OTHERS }} />
            other ways
          </span>
        )}
      </figcaption>
      <div className="h-[180px]" role="img" aria-label="Octets a day against what is lost">
        <ResponsiveContainer>
          <ScatterChart margin={{ top: 8, right: 16, bottom: 4, left: 8 }}>
            <CartesianGrid {...gridLook} />
            <XAxis dataKey="lost" type="number" name="lost, RMS" tickFormatter={lostText} tick={tickLook} stroke="var(--line)" height={20} />
            <YAxis
              dataKey="octets"
              type="number"
              name="a day"
              tickFormatter={(n: number) => bytesText(Math.round(n))}
              tick={tickLook}
              stroke="var(--line)"
              width={64}
            />
            <Tooltip
              isAnimationActive={false}
              cursor={{ stroke: 'var(--line)' }}
              content={({ payload }) => {
                const p = payload?.[0]?.payload as Point | undefined
                return p ? (
                  <div className="rounded-sm border border-line bg-sheet px-2 py-0.5 text-xs">
                    {p.label}: {bytesText(Math.round(p.octets))} a day, {lostText(p.lost)} lost
                  </div>
                ) : null
              }}
            />
            {kinds.map((kind) => (
              <Scatter
                key={kind}
                name={kind}
                data={pointsOf(kind)}
                fill={fills[kind]}
                {...((joined as readonly string[]).includes(kind) && { line: { stroke: fills[kind], strokeWidth: 1 } })}
                isAnimationActive={false}
                onClick={(p: { payload?: Point }) => p.payload && onChoose(p.payload.key)}
                shape={({ cx, cy, payload }: { cx?: number; cy?: number; payload?: Point }) => (
                  <circle
                    cx={cx ?? 0}
                    cy={cy ?? 0}
                    r={payload?.key === chosen ? 6 : 4}
                    fill={fills[kind]}
                    stroke="var(--sheet)"
                    strokeWidth={1.5}
                    className="cursor-pointer"
                  />
                )}
              />
            ))}
          </ScatterChart>
        </ResponsiveContainer>
      </div>
    </figure>
  )
}
