import { memo, type ReactNode } from 'react'
import type { Tag } from '~/contract/tag'
import { formatValue } from '~/core/value/format'
import { Glyph } from '~/ui/Glyph'
import { Sparkline } from '~/ui/Sparkline'
import { Age, Time } from '~/ui/time'
import type { ShownValue } from '../../app/live/live'
import { useSpark } from '../../app/live/live'
import { valueGlyph, valueReason } from '../quality'
import { MadeUpMark } from '../Simulation'

// Plain functions, not components: a row hears of its tag's value once and draws all of these, which scrolls much faster.

export const stateCell = (_t: Tag, v: ShownValue | undefined): ReactNode => <Glyph state={valueGlyph(v)} title={valueReason(v) || 'no value yet'} />

export const valueCell = (t: Tag, v: ShownValue | undefined): ReactNode => (
  <span data-live className={`font-mono text-[13px] ${v !== undefined && v[2] >>> 30 === 2 ? 'text-bad' : ''}`}>
    {v ? formatValue(v[1], t) : '-'}
  </span>
)

export function qualityCell(_t: Tag, v: ShownValue | undefined): ReactNode {
  const reason = valueReason(v)
  return (
    <span data-live className={reason === 'good' ? 'text-muted' : v && v[2] >>> 30 === 2 ? 'text-bad' : 'text-uncertain'}>
      {reason}
    </span>
  )
}

export const timeCell = (_t: Tag, v: ShownValue | undefined): ReactNode => (v?.[3] ? <Time at={v[3]} /> : <span className="text-muted">-</span>)

export const ageCell = (_t: Tag, v: ShownValue | undefined): ReactNode => <Age at={v?.[4] ?? 0} />

export const sparkCell = (t: Tag, v: ShownValue | undefined): ReactNode => (
  <SparkCell handle={t.handle} colour={v === undefined || v[2] >>> 30 === 0 ? 'text-slate' : v[2] >>> 30 === 2 ? 'text-bad' : 'text-uncertain'} />
)

const SparkCell = memo(function SparkCell({ handle, colour }: { handle: number; colour: string }) {
  const points = useSpark(handle)
  return <Sparkline points={points ?? none} width={106} className={colour} />
})
const none: never[] = []

/** A name of which the last part always shows: the folders before it give way. */
export function nameCell(t: Tag, madeUp: boolean): ReactNode {
  const at = t.name.lastIndexOf('/') + 1
  return (
    <span className="flex min-w-0 items-center" title={t.description ? `${t.name}\n${t.description}` : t.name}>
      {at > 0 && <span className="min-w-0 shrink truncate text-muted">{t.name.slice(0, at)}</span>}
      <span className="max-w-full shrink-0 truncate">{t.name.slice(at)}</span>
      {madeUp && (
        <span className="ml-1.5 shrink-0">
          <MadeUpMark tag={t} />
        </span>
      )}
    </span>
  )
}
