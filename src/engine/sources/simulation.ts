import type { Tag } from '~/contract/tag'
import { parseSignal, runSignal } from '~/core/source/signal'
import { conform } from '~/core/value/datatype'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import type { LiveTable } from '../live/table'
import { type Moving, Paced } from './paced'

const EVERY_MS = 500

interface Running extends Moving {
  tag: Tag
}

/** Tags of any source that are on simulation: their signals stand in for the device, with a quality that says so. */
export class Simulation {
  private running = new Map<number, Running>()
  private timer: NodeJS.Timeout | null = null
  private readonly began = Date.now()
  private readonly paced = new Paced(
    () => this.running,
    () => (Date.now() - this.began) / 1000,
    (handles, values) => this.say(handles, values, Date.now()),
  )

  constructor(private readonly table: LiveTable) {}

  /** Some of them move so many times as fast, until `multiple` is 1; gives how many. */
  pace(handles: ReadonlySet<number>, multiple: number): number {
    if (multiple > 1) return this.paced.begin(handles, multiple, EVERY_MS)
    this.paced.end()
    return 0
  }

  /** Ends what is not among these, or has another signal now. */
  release(tags: readonly Tag[]): void {
    const kept = new Map(tags.map((t) => [t.handle, t]))
    for (const [handle, r] of this.running) {
      const now = kept.get(handle)
      if (now && now.signal === r.tag.signal && now.dataType === r.tag.dataType) continue
      this.running.delete(handle)
      this.table.forget(handle)
    }
    if (this.running.size === 0 && this.timer) {
      clearInterval(this.timer)
      this.timer = null
    }
  }

  /** Begins what is new among these. */
  take(tags: readonly Tag[]): void {
    for (const tag of tags) {
      if (this.running.has(tag.handle)) continue
      const signal = parseSignal(tag.signal)
      if ('problem' in signal) continue
      this.table.ensure(tag.handle)
      this.running.set(tag.handle, { tag, next: runSignal(signal, 1, tag.id), last: undefined, dataType: tag.dataType, ahead: 0 })
    }
    if (this.running.size > 0 && !this.timer) {
      this.timer = setInterval(() => this.tick(), EVERY_MS)
      this.tick()
    }
  }

  private tick(): void {
    const now = Date.now()
    const seconds = (now - this.began) / 1000
    const handles: number[] = []
    const values: Scalar[] = []
    for (const [handle, r] of this.running) {
      if (this.paced.has(handle)) continue
      const value = conform(r.next(seconds + r.ahead), r.tag.dataType)
      if (value === r.last) continue
      r.last = value
      handles.push(r.tag.handle)
      values.push(value)
    }
    if (handles.length > 0) this.say(handles, values, now)
  }

  private say(handles: number[], values: Scalar[], now: number): void {
    this.table.apply({ handles, values, statuses: handles.map(() => Status.substitute), times: handles.map(() => now) }, now)
  }

  stop(): void {
    this.paced.end()
    if (this.timer) clearInterval(this.timer)
    this.timer = null
  }
}
