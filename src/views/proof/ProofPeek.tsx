import { memo } from 'react'
import { Bar, BarChart, ResponsiveContainer, Tooltip, XAxis } from 'recharts'
import type { LedgerLine, Verdict } from '~/contract/live'
import { verdicts } from '~/core/delivery/verdict'
import { type BrickState, brickState, brickWaiting } from '~/core/delivery/wall'
import { Button } from '~/ui/Button'
import { Fact, Heading } from '~/ui/Notes'
import { countText, durationText, Time } from '~/ui/time'
import { useCall } from '../app/api'
import { tipLook } from '../shared/chart-look'
import { Failed } from '../shared/Failed'
import type { Picked } from './Wall'
import { findHopOf } from './way/words'

const stateWords: Record<BrickState, string> = {
  empty: 'Nothing was made in this time',
  confirmed: 'All arrived: once, unaltered, in order and in time',
  waiting: 'Some are still on their way',
  unseen: 'The witness is away: whether the rest arrived is not known yet',
  unwatched: 'Sent, and acknowledged where the destination does that; no witness reads there',
  late: 'All arrived, some after the limit',
  disordered: 'Some arrived after a later message of their topic',
  doubled: 'Some arrived more than once',
  altered: 'Some arrived with another payload than was sent',
  foreign: 'Somebody else wrote to these topics',
  unknown: 'Nobody can say what became of some: the witness was away',
  rejected: 'Some were rejected by the destination: the events say why',
  dropped: 'Some were pushed out of the full outbox',
  missing: 'Some went out, and the witness did not see them arrive',
}
const grave: readonly BrickState[] = ['missing', 'dropped', 'rejected', 'altered']

const verdictWords: Record<Verdict, string> = {
  confirmed: 'Confirmed',
  late: 'Late',
  disordered: 'Disordered',
  doubled: 'Doubled',
  altered: 'Altered',
  missing: 'Missing',
  dropped: 'Dropped',
  rejected: 'Rejected',
  unknown: 'Unknown',
}

/** Every verdict with its count; those that speak of trouble only where there is some. */
function Verdicts({ of, waiting, foreign }: { of: Record<Verdict, number>; waiting: number; foreign: number }) {
  return (
    <>
      {verdicts
        .filter((v) => v === 'confirmed' || v === 'missing' || of[v] > 0)
        .map((v) => (
          <Fact key={v} name={verdictWords[v]}>
            {countText(of[v])}
          </Fact>
        ))}
      <Fact name="Waiting">{countText(waiting)}</Fact>
      {foreign > 0 && <Fact name="Foreign, besides">{countText(foreign)}</Fact>}
    </>
  )
}

/** Where the messages of a line are, up to a moment (epoch ms). */
const journalOf = (line: LedgerLine, until?: number) =>
  `/proof/journal?${new URLSearchParams({ to: line.destinationId, of: line.publicationId, ...(until !== undefined && { until: new Date(until).toISOString() }) })}`

/** One brick: what was made in its time and what became of it. */
export function BrickPeek({ picked, line, sliceMs, onClose }: { picked: Picked; line: LedgerLine; sliceMs: number; onClose(): void }) {
  const b = picked.brick
  const state = brickState(b, line.witness)
  return (
    <>
      <div className="flex items-start justify-between gap-2">
        <h2 className="text-[15px] font-semibold">{line.publication}</h2>
        <Button small onClick={onClose}>
          Close
        </Button>
      </div>
      <div className="mb-2 text-muted">
        to {line.destination}, <Time at={b.start} date /> and {durationText(sliceMs)}
      </div>
      <div className={`mb-2 rounded-sm border px-3 py-2 ${grave.includes(state) ? 'border-bad/40 bg-bad-wash text-bad' : 'border-line bg-paper'}`}>
        {stateWords[state]}
      </div>
      <Fact name="Produced">{countText(b.produced)}</Fact>
      <Verdicts of={b} waiting={brickWaiting(b)} foreign={b.foreign} />
      <Odd line={line} from={b.start} to={b.start + sliceMs} live={brickWaiting(b) > 0} />
      <p className="mt-3">
        <a className="text-slate underline" href={journalOf(line, b.start + sliceMs)}>
          Open its messages in the journal
        </a>
      </p>
      <p className="mt-1">
        <a className="text-slate underline" href={findHopOf('publication', line.publicationId)}>
          Find the hop
        </a>
      </p>
      <p className="mt-1 text-muted">Below the wall: what happened around this time.</p>
    </>
  )
}

/** The messages of a brick that did not arrive as they should, one by one, and how long the others took. */
function Odd({ line, from, to, live }: { line: LedgerLine; from: number; to: number; live: boolean }) {
  const whole = useCall('brick', { params: { delivery: String(line.delivery) }, query: { from, to }, ...(live && { refetchMs: 3000 }) })
  const open = (seq: number) => (
    <a className="font-mono text-[12.5px] text-slate underline" href={`${journalOf(line)}&message=${line.delivery}-${seq}`}>
      {seq}
    </a>
  )
  return (
    <>
      <Failed of={whole} flush />
      {whole.data && whole.data.odd.length > 0 && <Heading>One by one</Heading>}
      {whole.data?.odd.map(({ verdict, count, runs }) => (
        <div key={verdict} role="group" aria-label={`${verdictWords[verdict]} messages`} className="py-0.5">
          <span className="mr-1.5">{verdictWords[verdict]}:</span>
          {runs.slice(0, RUNS_SHOWN).map(([first, last], i) => (
            <span key={first}>
              {i > 0 && ', '}
              {open(first)}
              {last > first && <> to {open(last)}</>}
            </span>
          ))}
          {runs.length > RUNS_SHOWN && <span className="text-muted"> and more, {countText(count)} in all</span>}
        </div>
      ))}
      {whole.data && whole.data.latency.length > 0 && (
        <>
          <Heading>Device time to witness, in these minutes</Heading>
          <Bars bars={whole.data.latency} />
        </>
      )}
    </>
  )
}

/** So many runs of numbers stand in the peek. */
const RUNS_SHOWN = 12

/** One publication and destination: every hop's count, and how long messages take. */
export function LinePeek({ line }: { line: LedgerLine }) {
  const c = line.counts
  return (
    <>
      <h2 className="text-[15px] font-semibold">{line.publication}</h2>
      <div className="mb-2 text-muted">
        to {line.destination}, since its first message ·{' '}
        <a className="text-slate underline" href={journalOf(line)}>
          its journal
        </a>{' '}
        ·{' '}
        <a className="text-slate underline" href={findHopOf('publication', line.publicationId)}>
          find the hop
        </a>
      </div>
      <Fact name="Produced">{countText(c.produced)}</Fact>
      <Fact name="Stored in the outbox">{countText(c.stored)}</Fact>
      <Fact name="Sent">{countText(c.sent)}</Fact>
      <Fact name="Acknowledged">{line.acknowledges ? countText(c.acknowledged) : 'nobody does there'}</Fact>
      <Fact name="Arrived">{line.witness === 'none' ? 'no witness' : countText(c.arrived)}</Fact>
      <Heading>Each ended as</Heading>
      <Verdicts of={c} waiting={c.waiting} foreign={c.foreign} />
      {line.witness === 'away' && <p className="mt-1 text-muted">The witness is away: what went out meanwhile is unknown until it is back.</p>}
      <Heading>Device time to witness, last hour</Heading>
      {line.latency ? (
        <>
          <Latency delivery={line.delivery} />
          <Fact name="Half within">{durationText(line.latency.p50)}</Fact>
          <Fact name="95 % within">{durationText(line.latency.p95)}</Fact>
          <Fact name="99 % within">{durationText(line.latency.p99)}</Fact>
        </>
      ) : (
        <p className="text-muted">Nothing confirmed in the last hour.</p>
      )}
    </>
  )
}

/** Drawn anew when its own counts come, not with each message. */
const Latency = memo(function Latency({ delivery }: { delivery: number }) {
  const bars = useCall('latency', { params: { delivery: String(delivery) }, refetchMs: 5000 })
  return bars.data && bars.data.length > 0 ? <Bars bars={bars.data} /> : null
})

function Bars({ bars }: { bars: readonly { ms: number; count: number }[] }) {
  return (
    <div className="my-1 h-[104px]" role="img" aria-label="Histogram of latencies">
      <ResponsiveContainer width="100%" height="100%">
        <BarChart data={bars as { ms: number; count: number }[]} margin={{ top: 4, right: 22, bottom: 0, left: 22 }} barCategoryGap={1}>
          <XAxis
            dataKey="ms"
            tickFormatter={(ms: number) => durationText(ms)}
            tick={{ fontSize: 11, fill: 'var(--muted)', fontFamily: 'var(--font-mono)' }}
            axisLine={{ stroke: 'var(--line)' }}
            tickLine={false}
            interval="preserveStartEnd"
            minTickGap={40}
          />
          <Tooltip
            cursor={{ fill: 'var(--well)' }}
            isAnimationActive={false}
            formatter={(n) => [countText(Number(n)), 'messages']}
            labelFormatter={(ms) => `up to ${durationText(Number(ms))}`}
            contentStyle={tipLook}
          />
          <Bar dataKey="count" fill="var(--slate)" isAnimationActive={false} />
        </BarChart>
      </ResponsiveContainer>
    </div>
  )
}
