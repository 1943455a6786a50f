import { memo } from 'react'
import type { EventRow } from '~/contract/live'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import { Loading } from '~/ui/Notes'
import { Time } from '~/ui/time'
import { useCall } from '../app/api'
import { Failed } from '../shared/Failed'

const glyphs: Record<EventRow['severity'], GlyphState> = { good: 'good', note: 'idle', warning: 'uncertain', trouble: 'bad' }

/** What happened, newest first: with its hop, the reason, and what to do. */
export const EventList = memo(function EventList({
  from,
  to,
  limit = 200,
  filter = '',
  date = false,
}: {
  from?: number
  to?: number
  limit?: number
  filter?: string
  date?: boolean
}) {
  const events = useCall('events', {
    // Whole seconds, so that the question stays the same while the page does.
    query: {
      limit,
      ...(from !== undefined && { from: Math.floor(from / 1000) * 1000 }),
      ...(to !== undefined && { to: Math.ceil(to / 1000) * 1000 }),
    },
    refetchMs: 2000,
    // As the time moves on, what was there stays until the answer comes.
    keepPrevious: true,
  })
  const words = filter.toLowerCase()
  if (events.isPending) return <Loading rows={3} />
  if (events.error && !events.data) return <Failed of={events} flush />
  const shown = (events.data ?? []).filter((e) => `${e.subject} ${e.message} ${e.where} ${e.code}`.toLowerCase().includes(words))
  if (shown.length === 0)
    return <p className="py-1 text-muted">{words ? 'No event fits the filter.' : 'Nothing out of the ordinary in this time.'}</p>
  return (
    <ul aria-label="Events">
      {shown.map((e) => (
        <li key={e.id} className="grid grid-cols-[auto_190px_20px_1fr] items-start gap-2 border-b border-line/70 py-[5px]">
          <Time at={e.at} date={date} />
          <span className="truncate" title={`${e.where}: ${e.subject}`}>
            {e.subject} <span className="text-xs text-muted">{e.where}</span>
          </span>
          <span className="pt-px">
            <Glyph state={glyphs[e.severity]} title={e.severity} />
          </span>
          <span>
            {e.message}
            {e.hint && <span className="text-muted">. {e.hint}</span>}
          </span>
        </li>
      ))}
    </ul>
  )
})
