import { Fenced, type SegmentWrite } from '~/core/delivery/delivery-store'
import type { Envelope } from '~/core/delivery/envelope'
import { encodeSegment, rangesOf } from '~/core/delivery/segment'
import { sleep, within } from '../clock/clock'
import { log, wordsOf } from '../log'
import { type DropRun, DropRuns } from './drop-runs'
import type { OutboxOptions } from './options'
import { Passage } from './passage'

/** Most messages and octets of one segment. */
const SEGMENT_MESSAGES = 1000
const SEGMENT_BYTES = 1 << 20
/** Segments smaller than this are not worth packing. */
const PACK_FROM = 1024
/** Most messages and octets waiting in memory while the database is away; beyond it the oldest are dropped. */
const QUEUE_MAX = 50_000
const QUEUE_BYTES = 128 << 20
/** While nobody sends, or a backlog waits, messages are gathered this long: segments that are whole take a tenth of the room. */
const LINGER_MS = 250
/** So many messages waiting are a backlog. */
const BACKLOG = 2 * SEGMENT_MESSAGES
const RETRY_MS = { first: 100, most: 2000 }
/** How long an ending outbox waits for a database that is away, ms. */
const CLOSE_MS = 2000

interface Ready {
  write: SegmentWrite
  batch: Envelope[]
  before: DropRun[]
}

interface WriterOptions extends OutboxOptions {
  /** A sender is connected: every message is committed at once, unless many wait. */
  eager(): boolean
  /** Messages on disk that are to be sent. */
  backlog(): number
  committed(write: SegmentWrite, batch: Envelope[]): Promise<void>
}

/** What comes into an outbox, up to its commit: held in memory, cut into segments, packed, and written in order, however long that takes. */
export class Writer {
  private queue: Envelope[] = []
  private queueBytes = 0
  private readonly drops = new DropRuns()
  private readonly passage = new Passage()
  private nextNo = 1
  /** Position of the next message. */
  ordinal = 0
  private writing: Promise<void> | null = null
  /** Messages cut from the queue and not committed yet. */
  private packing = 0
  private closing = false
  private closed = false
  private begun = false
  /** Ends the gathering of messages. */
  private lingered: (() => void) | null = null

  constructor(private readonly o: WriterOptions) {}

  /** Begins, with the number of the next segment and the position of its first message; what was offered before waited for it. */
  open(nextNo: number, ordinal: number): void {
    this.nextNo = nextNo
    this.ordinal = ordinal
  }

  /** What was offered is written from now on. */
  start(): void {
    this.begun = true
    this.begin()
  }

  /** Messages that are not committed yet. */
  get waiting(): number {
    return this.queue.length + this.packing
  }

  offer(envelopes: readonly Envelope[]): void {
    this.passage.enter(envelopes.length)
    for (const e of envelopes) {
      this.queue.push(e)
      this.queueBytes += e.payload.length
    }
    let over = Math.max(0, this.queue.length - QUEUE_MAX)
    for (let bytes = this.queueBytes, i = 0; bytes > QUEUE_BYTES && i < this.queue.length - 1; i++) {
      bytes -= this.queue[i]!.payload.length
      over = Math.max(over, i + 1)
    }
    for (const e of over > 0 ? this.queue.splice(0, over) : []) {
      this.queueBytes -= e.payload.length
      this.drops.add(e)
    }
    this.passage.leave(over, true)
    this.hasten()
    this.begin()
  }

  /** Resolves when all that was offered so far is stored; false: some of it was pushed out, or the outbox ended first. */
  stored(): Promise<boolean> {
    return this.passage.all()
  }

  private begin(): void {
    if (!this.begun || this.closed || this.writing || this.queue.length === 0) return
    this.writing = this.write()
      .catch((e: unknown) => log('error', 'outbox', `stops writing: ${wordsOf(e)}`))
      .finally(() => {
        this.writing = null
        if (this.queue.length > 0 && !this.closed) this.begin()
      })
  }

  private async write(): Promise<void> {
    let ready = await this.pack()
    while (ready && !this.closed) {
      const { write, batch, before } = ready
      // A full segment is packed while the one before it is being committed; a smaller one waits for more.
      const following = this.queue.length >= SEGMENT_MESSAGES ? this.pack() : null
      if (!(await this.commit(write))) {
        await following
        this.packing = 0
        return
      }
      this.packing -= batch.length
      for (const run of before) this.o.hooks.lost(run)
      const done = this.o.committed(write, batch)
      this.passage.leave(batch.length)
      await done
      ready = await (following ?? this.pack())
    }
  }

  /** Cuts the next segment from the queue and packs it; null when there is nothing. */
  private async pack(): Promise<Ready | null> {
    if (this.mayLinger()) await within(this.o.clock, LINGER_MS, new Promise<void>((done) => (this.lingered = done)))
    this.lingered = null
    const batch = this.cutBatch()
    if (batch.length === 0) return null
    const before = this.drops.take()
    this.packing += batch.length
    const ranges = rangesOf(batch)
    const raw = encodeSegment(batch)
    const codec = raw.length >= PACK_FROM ? 1 : 0
    const body = codec === 1 ? await this.o.packing.pack(raw) : raw
    const write = { segment: this.nextNo++, count: batch.length, codec, rawBytes: raw.length, body, ordinal: this.ordinal, ranges } as const
    this.ordinal += batch.length
    return { write, batch, before }
  }

  /** Whether messages may be gathered a while: nobody waits for them, and they do not fill a segment yet. */
  private mayLinger(): boolean {
    const few = this.queue.length > 0 && this.queue.length < SEGMENT_MESSAGES && this.queueBytes < SEGMENT_BYTES
    return few && !this.closing && (!this.o.eager() || this.o.backlog() > BACKLOG)
  }

  /** Ends the gathering when there is no reason for it any more. */
  hasten(): void {
    if (this.lingered && !this.mayLinger()) this.lingered()
  }

  private cutBatch(): Envelope[] {
    let n = 0
    let size = 0
    while (n < this.queue.length && n < SEGMENT_MESSAGES && size < SEGMENT_BYTES) {
      const bytes = this.queue[n++]!.payload.length
      this.queueBytes -= bytes
      size += bytes + 100
    }
    return this.queue.splice(0, n)
  }

  /** Writes until it is written, however long the database is away; false only when closed meanwhile. */
  private async commit(write: SegmentWrite): Promise<boolean> {
    let troubled = false
    for (let wait = RETRY_MS.first; ; wait = Math.min(wait * 2, RETRY_MS.most)) {
      try {
        await this.o.store.append(this.o.destinationId, write)
        if (troubled) this.o.hooks.trouble(null)
        return true
      } catch (e) {
        if (e instanceof Fenced) {
          this.end()
          this.o.hooks.fenced()
        }
        if (this.closed) return false
        troubled = true
        this.o.hooks.trouble({ kind: this.o.troubleOf(e), words: wordsOf(e), lost: this.drops.count })
        await sleep(this.o.clock, wait)
        if (this.closed) return false
      }
    }
  }

  /** Stores what is still in memory, unless the database is away for longer than a moment, and ends. */
  async close(): Promise<void> {
    this.closing = true
    this.hasten()
    if (this.writing) await within(this.o.clock, CLOSE_MS, this.writing)
    this.end()
  }

  private end(): void {
    this.closed = true
    this.passage.end()
  }
}
