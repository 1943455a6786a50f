import { useMemo } from 'react'
import type { JournalMessage } from '~/contract/journal'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { FilterBox } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Empty, Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { bytesText, countText, durationText, Time } from '~/ui/time'
import { useFilterInAddress, useInAddress, useTextInAddress } from '../../app/address'
import { useCall } from '../../app/api'
import { Row } from '../../app/Frame'
import { Failed } from '../../shared/Failed'
import { TopicText } from '../../shared/TopicText'
import { ExportJournal } from './ExportJournal'
import { MessageTrail } from './MessageTrail'
import { MomentField } from './MomentField'
import { verdictGlyph, verdictMeaning, verdictWords } from './trail'
import { type JournalFilter, useJournal } from './useJournal'

const keyOf = (m: Pick<JournalMessage, 'delivery' | 'seq'>) => `${m.delivery}-${m.seq}`

/** Which message an address names: `delivery-number`. */
function named(key: string | null): { delivery: number; seq: number } | null {
  const m = /^(\d+)-(\d+)$/.exec(key ?? '')
  return m ? { delivery: Number(m[1]), seq: Number(m[2]) } : null
}

const momentIn = (params: URLSearchParams) => {
  const t = Date.parse(params.get('until') ?? '')
  return Number.isNaN(t) ? null : t
}
const momentOut = (t: number | null) => ({ until: t === null ? null : new Date(t).toISOString() })

/** Every message of the last hours, as it was stored, with what became of it. */
export function JournalPage() {
  const destinations = useCall('listDestinations')
  const publications = useCall('listPublications')
  const [destination, setDestination] = useTextInAddress('to')
  const [publicationId, setPublication] = useTextInAddress('of')
  const [text, setText] = useFilterInAddress('topic')
  const [until, setUntil] = useInAddress(momentIn, momentOut)
  const [chosen, setChosen] = useTextInAddress('message')
  const list = destinations.data ?? []
  const of = publications.data?.find((p) => p.id === publicationId)
  const destinationId = destination ?? of?.destinationId ?? list[0]?.id ?? null
  const filter = useMemo<JournalFilter>(() => ({ publicationId, text, until }), [publicationId, text, until])
  const journal = useJournal(destinationId, filter)
  const messages = useMemo(() => journal.data?.pages.flatMap((p) => p.messages) ?? [], [journal.data])
  const nameOf = (id: string | null) => publications.data?.find((p) => p.id === id)?.name ?? 'a publication that is no more'
  const open = named(chosen)
  const there = messages.find((m) => keyOf(m) === chosen)
  const [last] = journal.data?.pages.slice(-1) ?? []
  return (
    <>
      <Row station="proof" page="Journal">
        <Button small busy={journal.isFetching && !journal.isFetchingNextPage} onClick={() => void journal.refetch()}>
          Look again
        </Button>
        {destinationId && <ExportJournal destinationId={destinationId} filter={filter} />}
      </Row>
      <div className="flex flex-wrap items-center gap-2 border-b border-line px-3.5 py-1.5" role="search" aria-label="Which messages">
        <select
          aria-label="Destination"
          className="field w-44"
          value={destinationId ?? ''}
          onChange={(e) => {
            setDestination(e.target.value)
            setPublication(null)
            setChosen(null)
          }}
        >
          {list.map((d) => (
            <option key={d.id} value={d.id}>
              {d.name}
            </option>
          ))}
        </select>
        <select aria-label="Publication" className="field w-52" value={publicationId ?? ''} onChange={(e) => setPublication(e.target.value || null)}>
          <option value="">every publication</option>
          {(publications.data ?? [])
            .filter((p) => p.destinationId === destinationId || p.id === publicationId)
            .map((p) => (
              <option key={p.id} value={p.id}>
                {p.name}
              </option>
            ))}
        </select>
        <FilterBox value={text} onChange={setText} placeholder="topic contains" width="w-40" />
        <MomentField label="Stored until" value={until} onChange={setUntil} />
      </div>
      <ThreeParts
        id="journal"
        peekWidth={400}
        peek={
          open &&
          destinationId && <MessageTrail key={chosen} destinationId={destinationId} {...open} segment={there?.segment ?? null} publication={nameOf} />
        }
      >
        <Failed of={destinations} />
        <Failed of={journal} />
        {(destinations.isPending || (destinationId !== null && journal.isPending)) && <Loading />}
        {destinations.data && list.length === 0 && (
          <Empty title="No destination yet">As soon as a publication is live, every message it sends is kept here for a while.</Empty>
        )}
        {last && (
          <>
            <p className="px-4 py-1.5 text-muted">
              {last.capBytes === 0 || last.hours === 0
                ? 'This destination keeps no journal: only what waits is here. Its form says how long and how much it keeps.'
                : `Keeps ${hoursText(last.hours)}, up to ${bytesText(last.capBytes)}; holds ${bytesText(last.bytes)}`}
            </p>
            {messages.length === 0 && last.next === null && (
              <Empty title="Nothing found">
                {until === null ? 'No message of the last hours is like that.' : 'Choose a later moment, or another publication.'}
              </Empty>
            )}
            {messages.length > 0 && (
              <ListTable
                label="Messages"
                rows={messages}
                columns={columnsOf(publicationId === null ? nameOf : null, !isToday(messages.at(-1)!.storedAt, serverNow()))}
                rowKey={keyOf}
                chosen={chosen}
                onChoose={setChosen}
                dense
                fixed
                scroller="min-h-0 flex-1 overflow-auto"
              />
            )}
            {last.next !== null && (
              <div className="flex items-center gap-3 border-t border-line px-4 py-2">
                <Button small busy={journal.isFetchingNextPage} onClick={() => void journal.fetchNextPage()}>
                  Look further back
                </Button>
                <span className="text-muted">
                  {countText(messages.length)} so far
                  {last.lookedTo !== null && (
                    <>
                      , looked back to <Time at={last.lookedTo} date />
                    </>
                  )}
                </span>
              </div>
            )}
          </>
        )}
      </ThreeParts>
    </>
  )
}

const hoursText = (h: number) => (h === 1 ? 'one hour' : `${countText(h)} hours`)

const isToday = (at: number, now: number) => new Date(at).toDateString() === new Date(now).toDateString()

/** `nameOf`: names of publications, where it is not said already whose messages these are. */
function columnsOf(nameOf: ((id: string | null) => string) | null, dated: boolean): ListColumn<JournalMessage>[] {
  return [
    {
      key: 'verdict',
      head: 'Verdict',
      width: '112px',
      cell: (m) =>
        m.verdict && (
          <span className="inline-flex items-center gap-1.5">
            <Glyph state={verdictGlyph[m.verdict] ?? 'idle'} title={verdictMeaning[m.verdict]} />
            {verdictWords[m.verdict]}
          </span>
        ),
    },
    { key: 'stored', head: 'Stored', width: dated ? '194px' : '114px', whole: true, cell: (m) => <Time at={m.storedAt} date={dated} /> },
    { key: 'topic', head: 'Topic', mono: true, cell: (m) => <TopicText topic={m.topic} />, tip: (m) => m.topic },
    ...(nameOf
      ? [
          {
            key: 'publication',
            head: 'Publication',
            width: '22%',
            cell: (m: JournalMessage) => nameOf(m.publicationId),
            tip: (m: JournalMessage) => nameOf(m.publicationId),
          },
        ]
      : []),
    { key: 'seq', head: 'No.', width: '82px', right: true, mono: true, whole: true, cell: (m) => String(m.seq) },
    { key: 'size', head: 'Size', width: '70px', right: true, mono: true, whole: true, cell: (m) => bytesText(m.octets) },
    {
      key: 'took',
      head: 'Seen after',
      width: '88px',
      right: true,
      mono: true,
      cell: (m) => (m.hops?.seenAt ? durationText(Math.max(0, m.hops.seenAt - m.producedAt)) : '-'),
    },
  ]
}
