import type { Envelope } from '~/core/delivery/envelope'
import { type Hops, HopTimes } from '~/core/delivery/hops'

/** One message with its place in the outbox. */
export interface Item {
  envelope: Envelope
  segment: Segment
  index: number
}

/** One row of the outbox, as it stands in memory. */
export class Segment {
  items: Item[] | null = null
  /** Per message: 1 when acknowledged (or not to be sent any more). */
  readonly done: Uint8Array
  doneCount = 0
  /** Per message: 1 when its fate is known. */
  private readonly fate: Uint8Array
  /** Messages whose fate is open: the row waits until it is 0. */
  open: number
  /** Its row cannot be read. */
  damaged = false
  /** Octets of its row. */
  readonly size: number
  /** When its messages came past each hop; null while none has gone out, or nobody wants to know. */
  private hops: HopTimes | null = null

  constructor(
    readonly no: number,
    readonly count: number,
    public bytes: number,
    /** Position of its first message among all that ever went through this outbox. */
    readonly ordinal: number,
    readonly ranges: string,
    /** What lay between wall and monotonic clock when it was written, ms: tells when its messages were made. */
    readonly shift: number,
    /** When it was written, monotonic ms. */
    readonly writtenAt: number,
  ) {
    this.done = new Uint8Array(count)
    this.fate = new Uint8Array(count)
    this.open = count
    this.size = bytes
  }

  /** A message is handed to the wire, monotonic ms. */
  went(index: number, mono: number): void {
    this.hops ??= new HopTimes(this.count)
    this.hops.sent(index, mono - this.writtenAt)
  }

  /** The destination answered to it. */
  answered(index: number, mono: number): void {
    this.hops?.answered(index, mono - this.writtenAt)
  }

  /** The witness saw it. */
  seen(index: number, mono: number): void {
    this.hops?.seen(index, mono - this.writtenAt)
  }

  /** When one of its messages came past each hop; null: nothing is known of it. */
  hopsAt(index: number): Hops | null {
    return this.hops?.at(index, this.writtenAt - this.shift) ?? null
  }

  /** When its messages came past each hop, as octets; null: nothing is known of it. */
  hopOctets(): Uint8Array | null {
    return this.hops?.encode(this.writtenAt - this.shift) ?? null
  }

  get finished(): boolean {
    return this.doneCount === this.count
  }

  /** False when it was so already. */
  markDone(index: number): boolean {
    if (this.done[index] === 1) return false
    this.done[index] = 1
    this.doneCount++
    return true
  }

  /** The fate of a message is known; told twice it is the same. */
  settle(index: number): void {
    if (this.fate[index] === 1 || this.open === 0) return
    this.fate[index] = 1
    this.open--
  }

  /** Whether nothing more is to be said of a message. */
  settled(index: number): boolean {
    return this.fate[index] === 1
  }

  markAllDone(): number {
    const left = this.count - this.doneCount
    this.done.fill(1)
    this.doneCount = this.count
    return left
  }

  /** How many from the first on are acknowledged without a gap. */
  get prefix(): number {
    const gap = this.done.indexOf(0)
    return gap < 0 ? this.count : gap
  }
}
