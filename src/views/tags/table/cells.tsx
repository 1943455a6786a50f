import { memo } from 'react'
import type { Tag } from '~/contract/tag'
import { formatValue } from '~/core/value/format'
import { Glyph } from '~/ui/Glyph'
import { Sparkline } from '~/ui/Sparkline'
import { ageText, Time, useNow } from '~/ui/time'
import { useLiveValue, useSpark } from '../../app/live'
import { valueGlyph, valueReason } from '../quality'
import { MadeUpMark } from '../Simulation'

export const StateCell = memo(function StateCell({ handle }: { handle: number }) {
  const v = useLiveValue(handle)
  return <Glyph state={valueGlyph(v)} title={valueReason(v) || 'no value yet'} />
})

export const ValueCell = memo(function ValueCell({ tag }: { tag: Tag }) {
  const v = useLiveValue(tag.handle)
  const bad = v !== undefined && v[2] >>> 30 === 2
  return <span className={`font-mono text-[13px] ${bad ? 'text-bad' : ''}`}>{v ? formatValue(v[1], tag) : '-'}</span>
})

export const QualityCell = memo(function QualityCell({ handle }: { handle: number }) {
  const v = useLiveValue(handle)
  const reason = valueReason(v)
  return <span className={reason === 'good' ? 'text-muted' : v && v[2] >>> 30 === 2 ? 'text-bad' : 'text-uncertain'}>{reason}</span>
})

export const TimeCell = memo(function TimeCell({ handle }: { handle: number }) {
  const v = useLiveValue(handle)
  return v?.[3] ? <Time at={v[3]} /> : <span className="text-muted">-</span>
})

export const AgeCell = memo(function AgeCell({ handle }: { handle: number }) {
  const v = useLiveValue(handle)
  const now = useNow()
  return <span className="font-mono text-[12.5px]">{v?.[4] ? ageText(now - v[4]) : '-'}</span>
})

export const SparkCell = memo(function SparkCell({ handle }: { handle: number }) {
  const points = useSpark(handle)
  const v = useLiveValue(handle)
  const colour = v === undefined || v[2] >>> 30 === 0 ? 'text-slate' : v[2] >>> 30 === 2 ? 'text-bad' : 'text-uncertain'
  return <Sparkline points={points ?? []} width={106} className={colour} />
})

/** A name of which the last part always shows: the folders before it give way. */
export const NameCell = memo(function NameCell({ tag, madeUp }: { tag: Tag; madeUp: boolean }) {
  const at = tag.name.lastIndexOf('/') + 1
  return (
    <span className="flex min-w-0 items-center" title={`${tag.name}\n${tag.description}`}>
      {at > 0 && <span className="min-w-0 shrink truncate text-muted">{tag.name.slice(0, at)}</span>}
      <span className="max-w-full shrink-0 truncate">{tag.name.slice(at)}</span>
      {madeUp && (
        <span className="ml-1.5 shrink-0">
          <MadeUpMark tag={tag} />
        </span>
      )}
    </span>
  )
})
