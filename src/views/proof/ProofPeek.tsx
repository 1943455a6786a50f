import { Bar, BarChart, ResponsiveContainer, Tooltip, XAxis } from 'recharts'
import type { LedgerLine } from '~/contract/live'
import { brickState } from '~/core/delivery/wall'
import { Button } from '~/ui/Button'
import { Fact, Heading } from '~/ui/Notes'
import { countText, durationText, Time } from '~/ui/time'
import { useCall } from '../app/api'
import type { Picked } from './Wall'

const stateWords: Record<ReturnType<typeof brickState>, string> = {
  empty: 'Nothing was made in this time',
  confirmed: 'All arrived, once and unlost',
  waiting: 'Some are still on their way',
  late: 'All arrived, some after the limit of 30 s',
  missing: 'Some were acknowledged, but the witness did not see them',
  doubled: 'Some arrived more than once',
  dropped: 'Some were pushed out of the full outbox',
}

/** One brick: what was made in its time and what became of it. */
export function BrickPeek({ picked, line, sliceMs, onClose }: { picked: Picked; line: LedgerLine; sliceMs: number; onClose(): void }) {
  const b = picked.brick
  const state = brickState(b, line.witnessed)
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
      <div
        className={`mb-2 rounded-sm border px-3 py-2 ${state === 'missing' || state === 'dropped' ? 'border-bad/40 bg-bad-wash text-bad' : 'border-line bg-paper'}`}
      >
        {stateWords[state]}
      </div>
      <Fact name="Produced">{countText(b.produced)}</Fact>
      <Fact name="Confirmed">{countText(b.confirmed)}</Fact>
      <Fact name="Late">{countText(b.late)}</Fact>
      <Fact name="Missing">{countText(b.missing)}</Fact>
      <Fact name="Doubled">{countText(b.doubled)}</Fact>
      <Fact name="Dropped">{countText(b.dropped)}</Fact>
      <p className="mt-3 text-muted">Below the wall: what happened around this time.</p>
    </>
  )
}

/** One publication and destination: every hop's count, and how long messages take. */
export function LinePeek({ line }: { line: LedgerLine }) {
  const c = line.counts
  return (
    <>
      <h2 className="text-[15px] font-semibold">{line.publication}</h2>
      <div className="mb-2 text-muted">to {line.destination}, since its first message</div>
      <Fact name="Produced">{countText(c.produced)}</Fact>
      <Fact name="Stored in the outbox">{countText(c.stored)}</Fact>
      <Fact name="Sent">{countText(c.sent)}</Fact>
      <Fact name="Acknowledged">{countText(c.acknowledged)}</Fact>
      <Fact name="Confirmed">{line.witnessed ? countText(c.confirmed) : 'no witness'}</Fact>
      <Fact name="of these late">{countText(c.late)}</Fact>
      <Fact name="Waiting">{countText(c.waiting)}</Fact>
      <Fact name="Missing">{countText(c.missing)}</Fact>
      <Fact name="Doubled">{countText(c.doubled)}</Fact>
      <Fact name="Dropped, refused">{`${countText(c.dropped)}, ${countText(c.rejected)}`}</Fact>
      {c.unknown > 0 && <Fact name="Not known: no witness then">{countText(c.unknown)}</Fact>}
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

function Latency({ delivery }: { delivery: number }) {
  const bars = useCall('latency', { params: { delivery: String(delivery) }, refetchMs: 5000 })
  if (!bars.data || bars.data.length === 0) return null
  return (
    <div className="my-1 h-[104px]" role="img" aria-label="Histogram of latencies">
      <ResponsiveContainer width="100%" height="100%">
        <BarChart data={bars.data} margin={{ top: 4, right: 22, bottom: 0, left: 22 }} barCategoryGap={1}>
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
            contentStyle={{ background: 'var(--sheet)', border: '1px solid var(--line)', borderRadius: 3, fontSize: 12, padding: '4px 8px' }}
          />
          <Bar dataKey="count" fill="var(--slate)" isAnimationActive={false} />
        </BarChart>
      </ResponsiveContainer>
    </div>
  )
}
