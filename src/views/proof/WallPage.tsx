import { useCallback, useEffect, useMemo, useRef, useState } from 'react'
import type { LedgerLine } from '~/contract/live'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { Choice as ChoiceField } from '~/ui/Field'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Empty, Heading, Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { countText, durationText, useNow } from '~/ui/time'
import { useInAddress } from '../app/address'
import { useCall } from '../app/api'
import { Row } from '../app/Frame'
import { useFrame, useWatch } from '../app/live/live'
import { Failed } from '../shared/Failed'
import { EventList } from './EventList'
import { BrickPeek, LinePeek } from './ProofPeek'
import { blank, type Course, type Picked, Wall } from './Wall'
import { Sentence } from './wall/Sentence'
import { BRICKS, panned, slices, type View, zoomed } from './wall/view'

/** A moment in an address, as ISO 8601 has it. */
function momentOf(text: string | null): number | null {
  const t = text === null ? Number.NaN : Date.parse(text)
  return Number.isNaN(t) ? null : t
}

/** The line of the ledger that is chosen, and the brick, by when it begins. */
interface Choice {
  lineId: number | null
  at: number | null
}
const choiceOf = (params: URLSearchParams): Choice => ({ lineId: Number(params.get('line')) || null, at: momentOf(params.get('brick')) })
const addressOfChoice = ({ lineId, at }: Choice) => ({
  line: lineId === null ? null : String(lineId),
  brick: at === null ? null : new Date(at).toISOString(),
})

/** How far around a picked brick events are looked for. */
const AROUND_MS = 60_000

export function WallPage() {
  const lines = useFrame('ledger')
  const first = useCall('ledger')
  const [slice, setSlice] = useInAddress(
    (params) => slices.find((s) => s.value === params.get('slice'))?.value ?? '10000',
    (s) => ({ slice: s === '10000' ? null : s }),
  )
  const [until, setUntil] = useInAddress(
    (params) => momentOf(params.get('until')),
    (t) => ({ until: t === null ? null : new Date(t).toISOString() }),
  )
  const [{ lineId, at }, setChoice] = useInAddress(choiceOf, addressOfChoice)
  useWatch({ parts: ['ledger'] })
  const now = useNow(1000)
  const sliceMs = Number(slice)
  // Ends at a whole slice, so that the picture moves on by bricks.
  const to = Math.ceil((until ?? now) / sliceMs) * sliceMs
  const from = to - BRICKS * sliceMs
  const refetchMs = until === null ? { refetchMs: sliceMs > 60_000 ? 5000 : 2000 } : {}
  const wall = useCall('wall', { query: { from, to, sliceMs }, ...refetchMs })
  const events = useCall('eventLine', { query: { from, to, sliceMs }, keepPrevious: true, ...refetchMs })
  const [kept, setKept] = useState(wall.data)
  if (wall.data && wall.data !== kept) setKept(wall.data)
  const all = lines ?? first.data ?? null
  const courses = useCourses(all)
  const picked = useMemo<Picked | null>(() => (lineId !== null && at !== null ? { delivery: lineId, brick: blank(at) } : null), [lineId, at])
  const setPicked = useCallback(
    (p: Picked | null) => setChoice((choice) => ({ lineId: p?.delivery ?? choice.lineId, at: p?.brick.start ?? null })),
    [setChoice],
  )
  // Somebody was sent here to look at a brick that has left the picture.
  const [begun] = useState(at)
  useEffect(() => {
    if (begun !== null && until === null && begun < serverNow() - BRICKS * sliceMs) setUntil(begun + (BRICKS / 2) * sliceMs)
  }, [begun, until, sliceMs, setUntil])
  /** A picked brick as it is now: messages get their verdict while it is looked at. */
  const present = (p: Picked): Picked => ({
    ...p,
    brick: kept?.rows.find((r) => r.delivery === p.delivery)?.bricks.find((b) => b.start === p.brick.start) ?? p.brick,
  })
  const view: View = { sliceMs, until }
  const show = (next: View | null) => {
    if (!next) return
    if (next.sliceMs !== sliceMs) {
      setSlice(String(next.sliceMs))
      setPicked(null)
    }
    setUntil(next.until)
  }
  const pan = (count: number) => show(panned(view, count, now))
  // What the wall is given stays the same while time goes on: else it would be drawn anew each time.
  const zoom = (to: 'wider' | 'narrower', share: number) => show(zoomed(view, to, share, now))
  const move = useRef({ pan, zoom })
  move.current = { pan, zoom }
  const [moving] = useState(() => ({
    onPan: (count: number) => move.current.pan(count),
    onZoom: (to: 'wider' | 'narrower', share: number) => move.current.zoom(to, share),
  }))
  const chosen = all?.find((l) => l.delivery === lineId) ?? all?.[0]

  return (
    <>
      <Row station="proof" page="Wall">
        <ChoiceField
          label="Width of a brick"
          value={slice}
          options={slices}
          onChange={(s) => {
            setSlice(s)
            setPicked(null)
          }}
        />
        <Button small onClick={() => pan(-BRICKS / 2)} aria-label="Earlier">
          ←
        </Button>
        <Button small disabled={until === null} onClick={() => pan(BRICKS / 2)} aria-label="Later">
          →
        </Button>
        <Button aria-pressed={until === null} onClick={() => setUntil(until === null ? now : null)}>
          {until === null ? 'Live' : 'Back to live'}
        </Button>
      </Row>
      <ThreeParts
        id="proof"
        peekWidth={306}
        peek={
          chosen &&
          (picked ? (
            <BrickPeek picked={present(picked)} line={chosen} sliceMs={sliceMs} onClose={() => setPicked(null)} />
          ) : (
            <LinePeek line={chosen} />
          ))
        }
      >
        {all === null ? (
          first.error ? (
            <Failed of={first} />
          ) : (
            <Loading />
          )
        ) : all.length === 0 ? (
          <Empty
            title="Nothing has been sent yet"
            action={
              <a
                className="inline-flex h-[27px] items-center rounded-sm border border-clay bg-clay px-3 font-semibold text-clay-ink"
                href="/publications"
              >
                To the publications
              </a>
            }
          >
            As soon as a publication is live, every message is followed here from the tag to the far end.
          </Empty>
        ) : (
          <div className="flex flex-col px-3.5 py-2.5">
            <Totals lines={all} />
            <Sentence lines={courses} wall={kept ?? null} from={from} sliceMs={sliceMs} now={now} />
            <Wall
              lines={courses}
              wall={kept ?? null}
              events={events.data ?? null}
              from={from}
              to={to}
              sliceMs={sliceMs}
              bricks={BRICKS}
              picked={picked}
              onPick={setPicked}
              {...moving}
            />
            {wall.error && (
              <div className="mt-2">
                <Failed of={wall} flush />
              </div>
            )}
            <Lines lines={all} chosen={chosen?.delivery ?? null} onChoose={(d) => setChoice({ lineId: d, at: null })} />
            <Heading level={2}>{picked ? 'What happened around it' : 'What happened'}</Heading>
            {/* A cause lies before its effect, and its end after it. */}
            <EventList from={picked ? picked.brick.start - AROUND_MS : from} to={picked ? picked.brick.start + sliceMs + AROUND_MS : to} limit={12} />
          </div>
        )}
      </ThreeParts>
    </>
  )
}

/** The lines without their counts: the same list as long as these stay as they are. */
function useCourses(lines: readonly LedgerLine[] | null): readonly Course[] {
  const text = JSON.stringify(
    lines?.map(({ delivery, publicationId, publication, destination, witness }) => ({
      delivery,
      publicationId,
      publication,
      destination,
      witness,
    })) ?? [],
  )
  return useMemo(() => JSON.parse(text) as Course[], [text])
}

function Totals({ lines }: { lines: readonly LedgerLine[] }) {
  const sum = useMemo(() => {
    const of = (k: keyof LedgerLine['counts']) => lines.reduce((n, l) => n + l.counts[k], 0)
    return {
      arrived: of('arrived'),
      waiting: of('waiting'),
      late: of('late'),
      missing: of('missing'),
      doubled: of('doubled'),
      disordered: of('disordered'),
      altered: of('altered'),
      lost: of('dropped') + of('rejected'),
      unknown: of('unknown'),
      foreign: of('foreign'),
    }
  }, [lines])
  const worst = Math.max(...lines.map((l) => l.latency?.p99 ?? 0))
  const cells: [string, string, string][] = [
    ['Arrived', countText(sum.arrived), 'text-good'],
    ['Waiting', countText(sum.waiting), ''],
    ['Missing', countText(sum.missing), sum.missing ? 'text-bad' : ''],
    ['Late', countText(sum.late), sum.late ? 'text-uncertain' : ''],
    ['Doubled', countText(sum.doubled), sum.doubled ? 'text-slate' : ''],
    // Rarer troubles take room only when there is one.
    ...(
      [
        ['Disordered', sum.disordered, 'text-uncertain'],
        ['Altered', sum.altered, 'text-bad'],
        ['Dropped or rejected', sum.lost, 'text-bad'],
        ['Unknown', sum.unknown, 'text-idle'],
        ['Foreign', sum.foreign, 'text-clay'],
      ] as const
    ).flatMap(([name, n, colour]): [string, string, string][] => (n > 0 ? [[name, countText(n), colour]] : [])),
    ['p99 to witness', worst ? durationText(worst) : '-', ''],
  ]
  return (
    <dl className="mb-2 flex flex-wrap gap-x-8" aria-label="Totals">
      {cells.map(([name, text, colour]) => (
        <div key={name}>
          <dt className="text-xs text-muted">{name}</dt>
          <dd className={`font-mono text-[19px] leading-6 font-semibold ${colour}`} data-total={name}>
            {text}
          </dd>
        </div>
      ))}
    </dl>
  )
}

const usual: [keyof LedgerLine['counts'], string][] = [
  ['produced', 'Produced'],
  ['stored', 'Stored'],
  ['sent', 'Sent'],
  ['acknowledged', 'Acknowledged'],
  ['arrived', 'Arrived'],
  ['missing', 'Missing'],
  ['doubled', 'Doubled'],
]
/** Columns that are there only when some publication has such messages. */
const rarer: [keyof LedgerLine['counts'], string][] = [
  ['late', 'Late'],
  ['disordered', 'Disordered'],
  ['altered', 'Altered'],
  ['dropped', 'Dropped'],
  ['rejected', 'Rejected'],
  ['unknown', 'Unknown'],
  ['foreign', 'Foreign'],
]
const colours: Partial<Record<keyof LedgerLine['counts'], string>> = {
  missing: 'text-bad',
  altered: 'text-bad',
  dropped: 'text-bad',
  rejected: 'text-bad',
  doubled: 'text-slate',
  late: 'text-uncertain',
  disordered: 'text-uncertain',
  foreign: 'text-clay',
}

function countOf(l: LedgerLine, key: keyof LedgerLine['counts']): string {
  if (key === 'arrived' && l.witness === 'none') return 'no witness'
  return key === 'acknowledged' && !l.acknowledges ? '-' : countText(l.counts[key])
}

const latencyColumn = { right: true, mono: true, whole: true }
const latency = (l: LedgerLine, of: 'p50' | 'p99') => (l.latency ? durationText(l.latency[of]) : '-')

function Lines({ lines, chosen, onChoose }: { lines: readonly LedgerLine[]; chosen: number | null; onChoose(d: number): void }) {
  const shown = [...usual, ...rarer.filter(([k]) => lines.some((l) => l.counts[k] > 0))]
  const columns: ListColumn<LedgerLine>[] = [
    { key: 'publication', head: 'Publication', cell: (l) => l.publication, tip: (l) => `${l.publication}, to ${l.destination}` },
    ...shown.map(
      ([key, head]): ListColumn<LedgerLine> => ({
        key,
        head,
        right: true,
        mono: true,
        cell: (l) => <span data-count={key}>{countOf(l, key)}</span>,
        look: (l) => (l.counts[key] > 0 ? (colours[key] ?? '') : ''),
      }),
    ),
    {
      key: 'p50',
      head: 'p50',
      about: 'Half of the messages of the last hour were faster than this',
      ...latencyColumn,
      cell: (l) => latency(l, 'p50'),
    },
    { key: 'p99', head: 'p99', ...latencyColumn, cell: (l) => latency(l, 'p99') },
  ]
  return (
    <ListTable
      label="Counts"
      dense
      scroller="mt-4 max-h-72"
      rows={lines}
      columns={columns}
      rowKey={(l) => String(l.delivery)}
      chosen={chosen === null ? null : String(chosen)}
      onChoose={(delivery) => onChoose(Number(delivery))}
      marks={(l) => ({ 'data-line': l.publication })}
    />
  )
}
