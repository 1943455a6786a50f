import { memo } from 'react'
import type { EventLine } from '~/contract/live'
import { countText } from '~/ui/time'
import { W } from './BrickShape'

const HIGH = 10

type Slice = EventLine['slices'][number]

/** Shape as well as colour tells how bad it was. */
function Mark({ severity }: { severity: Slice['severity'] }) {
  const w = W - 1
  switch (severity) {
    case 'trouble':
      return <path d={`M0 1h${w}L${w / 2} ${HIGH}z`} className="fill-bad" />
    case 'warning':
      return <path d={`M0 1h${w}v4h${-w}z`} className="fill-uncertain" />
    case 'good':
      return <path d={`M${w / 2 - 2} 1h4v6h-4z`} className="fill-good" />
    case 'note':
      return <path d={`M${w / 2 - 1.5} 3h3v3h-3z`} className="fill-idle" />
  }
}

const words = ({ count, told }: Slice) => {
  const more = count - told.length
  return [...told, ...(more > 0 ? [`and ${countText(more)} more`] : [])].join('\n')
}

/** What happened, over the bricks under which it shows: cause and effect stand under each other. */
export const EventMarks = memo(function EventMarks({
  events,
  from,
  sliceMs,
  bricks,
  picked,
  onPick,
}: {
  events: EventLine | null
  from: number
  sliceMs: number
  bricks: number
  picked: number | null
  onPick(start: number): void
}) {
  const slices = events?.slices ?? []
  const troubles = slices.filter((s) => s.severity === 'trouble').length
  const count = slices.reduce((n, s) => n + s.count, 0)
  const name = `${countText(count)} ${count === 1 ? 'event' : 'events'}, ${countText(troubles)} ${troubles === 1 ? 'slice' : 'slices'} with trouble`
  return (
    <div className="flex items-center gap-3 pb-0.5">
      <div className="w-[176px] shrink-0 text-[11px] text-muted">what happened</div>
      {/* biome-ignore lint/a11y/useKeyWithClickEvents: the arrows on the wall lead there too, and the list under it holds all of them */}
      <svg
        viewBox={`0 0 ${bricks * W} ${HIGH + 1}`}
        preserveAspectRatio="none"
        className="h-[12px] min-w-0 flex-1 cursor-pointer"
        role="img"
        aria-label={name}
        onClick={(e) => {
          const area = e.currentTarget.getBoundingClientRect()
          const n = Math.floor(((e.clientX - area.left) / area.width) * bricks)
          onPick(from + Math.min(bricks - 1, Math.max(0, n)) * sliceMs)
        }}
      >
        {slices.map((s) => (
          <g key={s.start} transform={`translate(${((s.start - from) / sliceMs) * W} 0)`} data-event={s.severity}>
            <title>{words(s)}</title>
            <rect width={W} height={HIGH} fill="transparent" />
            <Mark severity={s.severity} />
          </g>
        ))}
        {picked !== null && picked >= from && (
          <path
            d={`M${((picked - from) / sliceMs) * W} ${HIGH}h${W - 1}`}
            className="stroke-ink"
            strokeWidth="1.5"
            vectorEffect="non-scaling-stroke"
          />
        )}
      </svg>
    </div>
  )
})
