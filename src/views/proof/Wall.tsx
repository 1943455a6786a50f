import { useVirtualizer } from '@tanstack/react-virtual'
import { format } from 'date-fns'
import { type KeyboardEvent, memo, type RefObject, useCallback, useEffect, useMemo, useRef } from 'react'
import type { Brick, EventLine, LedgerLine, Wall as WallData } from '~/contract/live'
import { emptyTally, verdicts } from '~/core/delivery/verdict'
import { type BrickState, brickParts, brickState, brickWaiting, layParts } from '~/core/delivery/wall'
import { countText } from '~/ui/time'
import { BrickShape, H, W } from './wall/BrickShape'
import { EventMarks } from './wall/EventMarks'

export interface Picked {
  delivery: number
  brick: Brick
}

/** What the wall needs of a line: all but its counts, which change several times a second. */
export type Course = Pick<LedgerLine, 'delivery' | 'publicationId' | 'publication' | 'destination' | 'witness'>

interface Props {
  lines: readonly Course[]
  wall: WallData | null
  /** What happened in each slice; null: not known yet. */
  events: EventLine | null
  from: number
  to: number
  sliceMs: number
  bricks: number
  picked: Picked | null
  onPick(p: Picked | null): void
  /** So many bricks later. */
  onPan(count: number): void
  /** About what stands at this share of the width. */
  onZoom(to: 'wider' | 'narrower', share: number): void
}

const ROW = 28

/** The bricks of a course by when they begin. An answer in which they are the same has the same list, hence the same map. */
const byStart = new WeakMap<readonly Brick[], ReadonlyMap<number, Brick>>()
function mapOf(bricks: readonly Brick[]): ReadonlyMap<number, Brick> {
  const known = byStart.get(bricks)
  if (known) return known
  const made = new Map(bricks.map((b) => [b.start, b]))
  byStart.set(bricks, made)
  return made
}

/** The picture of the ledger: a course of bricks for each publication and destination, a brick for each time slice. */
export const Wall = memo(function Wall({ lines, wall, events, from, to, sliceMs, bricks, picked, onPick, onPan, onZoom }: Props) {
  const box = useRef<HTMLDivElement>(null)
  const area = useRef<HTMLDivElement>(null)
  useWheel(area, onPan, onZoom)
  const virtual = useVirtualizer({ count: lines.length, getScrollElement: () => box.current, estimateSize: () => ROW, overscan: 6 })
  const rows = useMemo(() => new Map((wall?.rows ?? []).map((r) => [r.delivery, mapOf(r.bricks)])), [wall])
  const versions = useMemo(() => versionsOf(events), [events])
  const ticks = [0, 0.25, 0.5, 0.75, 1].map((share) => from + share * (to - from))
  const clock = to - from > 36 * 3600_000 ? 'MM-dd HH:mm' : sliceMs < 60_000 ? 'HH:mm:ss' : 'HH:mm'

  const pick = useCallback((delivery: number, brick: Brick) => onPick({ delivery, brick }), [onPick])
  const key = (e: KeyboardEvent) => {
    if (e.key === 'Escape') return onPick(null)
    const wide = { PageUp: -bricks / 2, PageDown: bricks / 2 }[e.key]
    if (wide !== undefined) {
      e.preventDefault()
      return onPan(wide)
    }
    if (e.key === '+' || e.key === '-') return onZoom(e.key === '+' ? 'narrower' : 'wider', 1)
    const move = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key]
    if (!move) return
    e.preventDefault()
    const at = lines.findIndex((l) => l.delivery === picked?.delivery)
    const line = lines[Math.min(lines.length - 1, Math.max(0, (at < 0 ? 0 : at) + move[1]!))]!
    const start = Math.min(to - sliceMs, Math.max(from, (picked?.brick.start ?? to - sliceMs) + move[0]! * sliceMs))
    onPick({ delivery: line.delivery, brick: rows.get(line.delivery)?.get(start) ?? blank(start) })
    virtual.scrollToIndex(lines.indexOf(line))
  }
  const pickMoment = (start: number) => {
    const line = lines.find((l) => l.delivery === picked?.delivery) ?? lines[0]
    if (line) pick(line.delivery, rows.get(line.delivery)?.get(start) ?? blank(start))
  }
  return (
    <div ref={area}>
      <EventMarks {...{ events, from, sliceMs, bricks }} picked={picked?.brick.start ?? null} onPick={pickMoment} />
      <div ref={box} role="grid" aria-label="The wall" tabIndex={0} onKeyDown={key} className="max-h-[330px] overflow-auto">
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((item) => {
            const line = lines[item.index]!
            return (
              <div
                key={line.delivery}
                role="row"
                tabIndex={-1}
                aria-label={line.publication}
                className="absolute left-0 flex w-full items-center gap-3"
                style={{ height: ROW, transform: `translateY(${item.start}px)` }}
              >
                <div role="rowheader" className="w-[176px] shrink-0 leading-[13px]" title={`${line.publication}, to ${line.destination}`}>
                  <div className="truncate text-[13px]">{line.publication}</div>
                  <div className="truncate text-[11px] text-muted">{line.destination}</div>
                </div>
                <div role="gridcell" tabIndex={-1} className="flex min-w-0 flex-1">
                  <CourseOfBricks
                    bricks={rows.get(line.delivery)}
                    from={from}
                    sliceMs={sliceMs}
                    count={bricks}
                    witness={line.witness}
                    picked={picked?.delivery === line.delivery ? picked.brick.start : null}
                    delivery={line.delivery}
                    versions={versions.get(line.publicationId)}
                    onPick={pick}
                  />
                </div>
              </div>
            )
          })}
        </div>
      </div>
      <div className="flex pl-[188px] font-mono text-[11px] text-muted" aria-hidden="true">
        {ticks.map((t, i) => (
          <span key={t} className={i === 0 ? '' : i === ticks.length - 1 ? 'ml-auto' : 'ml-auto -translate-x-1/2 max-[1000px]:hidden'}>
            {format(t, clock)}
          </span>
        ))}
      </div>
      <Legend lines={lines} rows={rows} versions={versions.size > 0} />
    </div>
  )
})

const words: Partial<Record<BrickState, string>> = {
  confirmed: 'confirmed',
  waiting: 'on its way',
  unseen: 'witness away',
  unwatched: 'no witness',
  late: 'late',
  disordered: 'disordered',
  doubled: 'doubled',
  altered: 'altered',
  foreign: 'foreign',
  unknown: 'unknown',
  rejected: 'rejected',
  dropped: 'dropped',
  missing: 'missing',
}

/** What stands left of the bricks, px. */
const LEFT = 188
/** So far the wheel has to go sideways for one brick, px. */
const A_BRICK = 12

/** The wheel sideways (or with Shift) goes through time; with Ctrl it makes bricks wider and narrower about the pointer. */
function useWheel(area: RefObject<HTMLDivElement | null>, onPan: Props['onPan'], onZoom: Props['onZoom']): void {
  const acts = useRef({ onPan, onZoom })
  acts.current = { onPan, onZoom }
  useEffect(() => {
    const box = area.current
    if (!box) return
    let gone = 0
    let zoomedAt = 0
    const wheel = (e: WheelEvent) => {
      const sideways = e.deltaX !== 0 ? e.deltaX : e.shiftKey ? e.deltaY : 0
      if (!e.ctrlKey && sideways === 0) return
      e.preventDefault()
      if (e.ctrlKey) {
        // One turn of a wheel is many events.
        if (e.timeStamp - zoomedAt < 250) return
        zoomedAt = e.timeStamp
        const { left, right } = box.getBoundingClientRect()
        const share = Math.min(1, Math.max(0, (e.clientX - left - LEFT) / (right - left - LEFT)))
        return acts.current.onZoom(e.deltaY > 0 ? 'wider' : 'narrower', share)
      }
      gone += sideways
      const count = Math.trunc(gone / A_BRICK)
      gone -= count * A_BRICK
      if (count !== 0) acts.current.onPan(count)
    }
    // The browser would zoom the page, unless it is told not to.
    box.addEventListener('wheel', wheel, { passive: false })
    return () => box.removeEventListener('wheel', wheel)
  }, [area])
}

/** Versions that went live, by publication and slice. */
function versionsOf(events: EventLine | null): ReadonlyMap<string, ReadonlyMap<number, string>> {
  const out = new Map<string, Map<number, string>>()
  for (const { publicationId, start, number, by } of events?.versions ?? []) {
    const own = out.get(publicationId) ?? new Map<number, string>()
    out.set(publicationId, own)
    own.set(start, `version ${number} goes live, by ${by}`)
  }
  return out
}

/** What the shapes on this wall mean: only those that stand on it. */
function Legend({ lines, rows, versions }: { lines: readonly Course[]; rows: ReadonlyMap<number, ReadonlyMap<number, Brick>>; versions: boolean }) {
  const states = new Set<BrickState>()
  for (const l of lines) for (const b of rows.get(l.delivery)?.values() ?? []) for (const p of brickParts(b, l.witness)) states.add(p.state)
  const order = (Object.keys(words) as BrickState[]).filter((s) => states.has(s))
  if (order.length === 0) return null
  return (
    <ul className="mt-1.5 flex flex-wrap gap-x-4 gap-y-1 pl-[188px] text-[11.5px] text-muted" aria-label="What the bricks mean">
      {order.map((s) => (
        <li key={s} className="flex items-center gap-1.5">
          <svg viewBox={`0 0 ${W} ${H + 2}`} className="h-[15px] w-[8px]" aria-hidden="true">
            <BrickShape state={s} strength={0.9} />
          </svg>
          {words[s]}
        </li>
      ))}
      {versions && (
        <li className="flex items-center gap-1.5">
          <svg viewBox={`0 0 ${W} ${H + 2}`} className="h-[15px] w-[8px]" aria-hidden="true">
            <VersionMark />
          </svg>
          another version
        </li>
      )}
    </ul>
  )
}

export const blank = (start: number): Brick => ({ start, produced: 0, foreign: 0, ...emptyTally() })

interface CourseProps {
  bricks: ReadonlyMap<number, Brick> | undefined
  from: number
  sliceMs: number
  count: number
  witness: LedgerLine['witness']
  picked: number | null
  delivery: number
  /** Which version went live in which slice. */
  versions: ReadonlyMap<number, string> | undefined
  onPick(delivery: number, b: Brick): void
}

const CourseOfBricks = memo(function CourseOfBricks({ bricks, from, sliceMs, count, witness, picked, delivery, versions, onPick }: CourseProps) {
  let most = 1
  for (const b of bricks?.values() ?? []) most = Math.max(most, b.produced)
  const pick = (clientX: number, target: Element) => {
    const area = target.getBoundingClientRect()
    const i = Math.min(count - 1, Math.max(0, Math.floor(((clientX - area.left) / area.width) * count)))
    const start = from + i * sliceMs
    onPick(delivery, bricks?.get(start) ?? blank(start))
  }
  return (
    // biome-ignore lint/a11y/useKeyWithClickEvents: the wall around it takes the keys
    <svg
      viewBox={`0 0 ${count * W} ${H + 2}`}
      preserveAspectRatio="none"
      className="h-[21px] min-w-0 flex-1 cursor-pointer"
      role="img"
      aria-label="Bricks"
      onClick={(e) => pick(e.clientX, e.currentTarget)}
    >
      <line x1="0" x2={count * W} y1={H - 0.5} y2={H - 0.5} className="stroke-line" />
      {Array.from({ length: count }, (_, i) => {
        const start = from + i * sliceMs
        const b = bricks?.get(start)
        const x = i * W
        return (
          <g key={start} transform={`translate(${x} 0)`}>
            {b && <Shape brick={b} witness={witness} strength={strengthOf(b.produced / most)} />}
            {versions?.has(start) && (
              <g data-version={versions.get(start)}>
                <title>{versions.get(start)}</title>
                <VersionMark />
              </g>
            )}
            {picked === start && (
              <rect x={-0.5} y="0.5" width={W} height={H} fill="none" className="stroke-ink" strokeWidth="1.5" vectorEffect="non-scaling-stroke" />
            )}
          </g>
        )
      })}
    </svg>
  )
})

/** How strongly a brick is filled by its share of the most that one holds: in steps, so that one more message draws no other brick anew. */
const strengthOf = (share: number) => 0.62 + 0.38 * (Math.ceil(share * 8) / 8)

/** Where it stands is its group's place, so that it stays what it is while the picture moves on. */
const Shape = memo(function Shape({ brick: b, witness, strength }: { brick: Brick; witness: LedgerLine['witness']; strength: number }) {
  const state = brickState(b, witness)
  const parts = [
    ...verdicts.filter((v) => b[v] > 0).map((v) => `${countText(b[v])} ${v}`),
    ...(b.foreign > 0 ? [`${countText(b.foreign)} foreign`] : []),
  ]
  const title = [`${countText(b.produced)} made`, ...parts, ...(brickWaiting(b) > 0 ? [`${countText(brickWaiting(b))} waiting`] : [])].join(', ')
  return (
    <g data-brick={state}>
      <title>{title}</title>
      {layParts(brickParts(b, witness)).map(({ state: part, from, height }) => (
        <BrickShape key={part} state={part} strength={strength} y={1 + from * (H - 1)} h={height * (H - 1)} />
      ))}
    </g>
  )
})

/** At the left edge of the brick in which a version went live. */
const VersionMark = () => <path d={`M0 0.5v${H}M0 0.5h3.5`} fill="none" className="stroke-clay" strokeWidth="2" vectorEffect="non-scaling-stroke" />
