import type { ValueArrays } from '~/core/publication/cells/cell'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import { log, wordsOf } from '../log'
import { Rate } from './rate'

/** Changes from a source, one entry a tag; times in epoch ms. */
export interface Batch {
  handles: number[]
  values: Scalar[]
  statuses: number[]
  times: number[]
  /** What there is to say of single tags beside their status. */
  notes?: Map<number, TagNote>
}

/** Why a tag is as it is, in the protocol's own words, with the bytes that could not be read when there are any. */
export interface TagNote {
  at: number
  text: string
  /** The protocol's own code, such as `exception 2`. */
  code?: string
  bytes?: Uint8Array
}

/** So much of a payload that could not be read is kept. */
const BYTES_KEPT = 16_384

const SPARK_POINTS = 120
export const SPARK_EVERY_MS = 5000

/** Hears of tags; `came`: their device told them just now, whether or not they are other than before. */
type Listener = (handles: readonly number[], came: boolean) => void

/** The present value of every tag, as arrays indexed by tag handle. */
export class LiveTable implements ValueArrays {
  value: Scalar[] = []
  status = new Uint32Array(1024).fill(Status.waitingForInitialData)
  time = new Float64Array(1024)
  seen = new Float64Array(1024)
  /** When the value itself last became another, epoch ms; 0: never had one. */
  changed = new Float64Array(1024)
  /** Grows with each batch; an entry is the batch that last touched the tag. */
  version = new Float64Array(1024)
  current = 0
  readonly rate = new Rate()
  readonly notes = new Map<number, TagNote>()
  private readonly sparks = new Map<number, Float32Array>()
  private sparkAt = 0
  private readonly listeners = new Set<Listener>()

  ensure(handle: number): void {
    if (handle < this.status.length) return
    let size = this.status.length
    while (size <= handle) size *= 2
    const grow = <T extends Float64Array | Uint32Array>(from: T, to: T): T => {
      to.set(from)
      return to
    }
    const status = new Uint32Array(size).fill(Status.waitingForInitialData)
    this.status = grow(this.status, status)
    this.time = grow(this.time, new Float64Array(size))
    this.seen = grow(this.seen, new Float64Array(size))
    this.changed = grow(this.changed, new Float64Array(size))
    this.version = grow(this.version, new Float64Array(size))
  }

  /** Every listener hears, whatever another one does; the source hears of none of it. */
  private tell(handles: readonly number[], came: boolean): void {
    for (const listener of this.listeners) {
      try {
        listener(handles, came)
      } catch (e) {
        log('error', 'engine', `a listener to values failed: ${wordsOf(e)}`)
      }
    }
  }

  onBatch(listener: Listener): () => void {
    this.listeners.add(listener)
    return () => this.listeners.delete(listener)
  }

  apply(batch: Batch, now = Date.now()): void {
    this.current++
    for (let i = 0; i < batch.handles.length; i++) {
      const h = batch.handles[i]!
      this.ensure(h)
      const value = batch.values[i]!
      if (this.value[h] !== value) {
        this.value[h] = value
        this.changed[h] = now
      }
      this.status[h] = batch.statuses[i]!
      this.time[h] = batch.times[i]!
      this.seen[h] = now
      this.version[h] = this.current
    }
    if (batch.notes)
      for (const [h, note] of batch.notes)
        this.notes.set(h, note.bytes && note.bytes.length > BYTES_KEPT ? { ...note, bytes: note.bytes.slice(0, BYTES_KEPT) } : note)
    this.rate.add(batch.handles.length)
    this.tell(batch.handles, true)
  }

  /** Gives a tag that has no value yet one that did not come from its device: an initial or a held one. */
  stand(handle: number, value: Scalar, status: number, time: number): void {
    this.ensure(handle)
    if (this.seen[handle] !== 0 || (this.value[handle] ?? null) !== null) return
    this.current++
    this.value[handle] = value
    this.status[handle] = status
    this.time[handle] = time
    this.version[handle] = this.current
    this.tell([handle], false)
  }

  /** Whether a tag's value is one that only stands for the device's. */
  stands(handle: number): boolean {
    return this.seen[handle] === 0 && (this.value[handle] ?? null) !== null
  }

  /** Sets only the status, keeping value and time: for a link that went away. */
  mark(handles: readonly number[], status: number, note?: TagNote): void {
    if (note) for (const h of handles) this.notes.set(h, note)
    const changed = handles.filter((h) => {
      this.ensure(h)
      // With a reason given, a tag that never had a value has been asked for in vain, and waits no more.
      return this.status[h] !== status && (note !== undefined || this.status[h] !== Status.waitingForInitialData)
    })
    if (changed.length === 0) return
    this.current++
    for (const h of changed) {
      this.status[h] = status
      this.version[h] = this.current
    }
    this.tell(changed, false)
  }

  /** A tag that is gone or now means another node starts over. */
  forget(handle: number): void {
    this.ensure(handle)
    this.value[handle] = null
    this.status[handle] = Status.waitingForInitialData
    this.time[handle] = 0
    this.seen[handle] = 0
    this.changed[handle] = 0
    this.version[handle] = ++this.current
    this.sparks.delete(handle)
    this.notes.delete(handle)
  }

  /** Takes one point of every numeric tag; called every five seconds. */
  sample(handles: Iterable<number>): void {
    this.sparkAt = (this.sparkAt + 1) % SPARK_POINTS
    for (const h of handles) {
      const value = this.value[h]
      const usable = (typeof value === 'number' || typeof value === 'bigint') && this.status[h]! >>> 30 !== 2
      let ring = this.sparks.get(h)
      if (!ring) {
        if (!usable) continue
        ring = new Float32Array(SPARK_POINTS).fill(Number.NaN)
        this.sparks.set(h, ring)
      }
      ring[this.sparkAt] = usable ? Number(value) : Number.NaN
    }
  }

  /** The last ten minutes, oldest first; null where there was no usable number. */
  spark(handle: number): (number | null)[] {
    const ring = this.sparks.get(handle)
    if (!ring) return []
    const out: (number | null)[] = []
    for (let i = 1; i <= SPARK_POINTS; i++) {
      const v = ring[(this.sparkAt + i) % SPARK_POINTS]!
      if (out.length > 0 || !Number.isNaN(v)) out.push(Number.isNaN(v) ? null : Number(v.toPrecision(6)))
    }
    return out
  }
}
