import type { Tag } from '~/contract/tag'
import { rawOf } from '~/core/tag/effect'
import { scale } from '~/core/value/scaling'
import { useLiveValue } from '../../app/live/live'

const WIDTH = 260
const HEIGHT = 52
/** Share of the width that lies outside of the two points, on either side. */
const OUTSIDE = 0.18

/** The line from raw to engineering units, with where the tag stands on it now; raw is worked back from the stored scaling. */
export function ScalingFigure({ tag, scaling, unit }: { tag: Tag; scaling: NonNullable<Tag['scaling']>; unit: string }) {
  const v = useLiveValue(tag.handle)
  const value = typeof v?.[1] === 'number' ? v[1] : null
  const now = value === null ? null : tag.scaling ? rawOf(tag.scaling, value) : { raw: value, beyond: false }
  const [left, right] = [Math.min(scaling.rawLow, scaling.rawHigh), Math.max(scaling.rawLow, scaling.rawHigh)]
  const margin = ((right - left) * OUTSIDE) / (1 - 2 * OUTSIDE)
  const x = (raw: number) => ((raw - left + margin) / (right - left + 2 * margin)) * WIDTH
  const ends = [scale({ ...scaling, clamp: false }, left - margin).value, scale({ ...scaling, clamp: false }, right + margin).value]
  const [bottom, top] = [Math.min(...ends), Math.max(...ends)]
  const y = (scaled: number) => HEIGHT - 4 - ((scaled - bottom) / (top - bottom)) * (HEIGHT - 8)
  const line = [left - margin, left, right, right + margin].map((raw) => `${x(raw)},${y(scale(scaling, raw).value)}`).join(' ')
  const shownRaw = now === null ? null : Math.min(right + margin, Math.max(left - margin, now.raw))
  const after = now === null ? null : Number(scale(scaling, now.raw).value.toPrecision(6))
  return (
    <div>
      {now !== null && (
        <div className="text-xs text-muted">
          {now.raw}
          {now.beyond && ' or beyond'} raw → {after} {unit}
          {now.raw < left || now.raw > right ? ', outside of the two points' : ''}
        </div>
      )}
      <svg viewBox={`0 0 ${WIDTH} ${HEIGHT + 12}`} className="mt-1 h-[64px] w-full max-w-[300px]" aria-hidden="true">
        {[left, right].map((raw) => (
          <g key={raw}>
            <line x1={x(raw)} x2={x(raw)} y1="0" y2={HEIGHT} stroke="var(--line)" strokeDasharray="2 3" />
            <text x={x(raw)} y={HEIGHT + 10} textAnchor="middle" fontSize="10" className="fill-muted font-mono">
              {raw}
            </text>
          </g>
        ))}
        <polyline points={line} fill="none" stroke="var(--slate)" strokeWidth="1.5" />
        {shownRaw !== null && <circle cx={x(shownRaw)} cy={y(scale(scaling, shownRaw).value)} r="4" fill="var(--clay)" />}
      </svg>
    </div>
  )
}
