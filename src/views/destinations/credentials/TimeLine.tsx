import { useMemo } from 'react'
import type { Ending } from '~/contract/ending'
import { partWords, stopCounts, stopWords } from '~/core/credential/ending-words'
import { daysLeft, ENDS_SOON_DAYS } from '~/core/credential/validity'
import { serverNow } from '~/ui/clock'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Loading } from '~/ui/Notes'
import { useCall } from '../../app/api'
import { Failed } from '../../shared/Failed'
import { lifeOf, MARKS, placeOfDays, whenWords } from './life'

const bar: Record<GlyphState, string> = { good: 'bg-good', uncertain: 'bg-uncertain', bad: 'bg-bad', idle: 'bg-idle' }

/** Everything that ends by itself on one line of time, the soonest first: what uses it, and what stops then. */
export function TimeLine({ chosen, onChoose }: { chosen: string | null; onChoose(credential: string): void }) {
  const endings = useCall('listEndings')
  const rows = useMemo(() => endings.data ?? [], [endings.data])
  if (endings.isPending) return <Loading />
  if (endings.error) return <Failed of={endings} />
  if (rows.length === 0) return <p className="p-4 text-muted">Nothing here ends by itself.</p>
  return (
    <ListTable
      label="What ends when"
      rows={rows}
      columns={columns}
      rowKey={(e) => e.key}
      chosen={rows.find((e) => e.credentialId !== null && e.credentialId === chosen)?.key ?? null}
      onChoose={(key) => {
        const id = rows.find((e) => e.key === key)?.credentialId
        if (id) onChoose(id)
      }}
      fixed
    />
  )
}

const columns: ListColumn<Ending>[] = [
  { key: 'glyph', head: 'State', quiet: true, width: 36, cell: (e) => <Glyph state={lifeOf(e.until)} /> },
  { key: 'name', head: 'Name', strong: true, cell: (e) => e.name, tip: (e) => e.name },
  { key: 'what', head: 'What', muted: true, width: 116, cell: (e) => partWords[e.what] },
  { key: 'line', head: <Marks />, width: '25%', cell: (e) => <Life until={e.until} /> },
  { key: 'until', head: 'Ends', mono: true, width: 96, cell: (e) => e.until.slice(0, 10), tip: (e) => e.until },
  { key: 'when', head: 'When', muted: true, width: 92, cell: (e) => whenWords(e.until) },
  { key: 'stops', head: 'Stops then', width: '15%', cell: stopCounts, tip: stopWords },
]

/** The dates at the head of the line. */
function Marks() {
  return (
    <span className="relative block h-4 font-normal">
      <span className="sr-only">Time</span>
      {MARKS.map(({ days, label }) => (
        <span key={days} aria-hidden="true" className="absolute -translate-x-1/2 whitespace-nowrap" style={{ left: `${placeOfDays(days)}%` }}>
          {label}
        </span>
      ))}
    </span>
  )
}

/** From today to its end; of what has ended, from its end to today. */
function Life({ until }: { until: string }) {
  const days = daysLeft({ notAfter: until }, serverNow())
  const [today, end] = [placeOfDays(0), placeOfDays(days)]
  const [left, right] = days < 0 ? [end, today] : [today, end]
  return (
    <span className="relative block h-[15px]" aria-hidden="true">
      <span
        className="absolute inset-y-0 rounded-[2px] bg-uncertain/15"
        style={{ left: `${today}%`, width: `${placeOfDays(ENDS_SOON_DAYS) - today}%` }}
      />
      {MARKS.map((mark) => (
        <span
          key={mark.days}
          className={`absolute -inset-y-[9px] w-px ${mark.days === 0 ? 'bg-muted' : 'bg-line'}`}
          style={{ left: `${placeOfDays(mark.days)}%` }}
        />
      ))}
      <span
        className={`absolute inset-y-[4px] rounded-[1px] ${bar[lifeOf(until)]}`}
        style={{ left: `${left}%`, width: `${Math.max(0.6, right - left)}%` }}
      />
    </span>
  )
}
