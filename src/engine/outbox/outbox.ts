import { promisify } from 'node:util'
import { deflateRaw, inflateRaw } from 'node:zlib'
import type { Envelope } from '~/core/delivery/envelope'
import { decodeSegment, encodeSegment } from '~/core/delivery/segment'
import type { Db } from '~/store/database'
import { type Codec, type Cursor, insertSegment, listSegments, readCursor, readSegment } from '~/store/outbox'
import { wordsOf } from '../log'

const deflate = promisify(deflateRaw)
const inflate = promisify(inflateRaw)

/** Most messages and octets of one segment. */
const SEGMENT_MESSAGES = 1000
const SEGMENT_BYTES = 1 << 20
/** Segments smaller than this are not worth packing. */
const PACK_FROM = 4096
/** Octets kept in memory ahead of the sender; beyond it they are read back from the database. */
const AHEAD_BYTES = 16 << 20
/** Most messages waiting in memory while the database is away; beyond it the oldest are dropped. */
const QUEUE_MAX = 50_000
/** Most messages that can have been on the wire beyond the cursor: the largest window of a destination. */
const WINDOW_MAX = 5000
/** How long an ending outbox waits for a database that is away, ms. */
const CLOSE_MS = 2000
/** While nobody sends, messages are gathered this long so that segments don't get tiny. */
const LINGER_MS = 250

/** One message with its place in the outbox. */
export interface Item {
  envelope: Envelope
  segment: Segment
  index: number
}

interface Segment {
  no: number
  count: number
  bytes: number
  items: Item[] | null
  /** Per message: 1 when acknowledged (or not to be sent any more). */
  done: Uint8Array
  doneCount: number
  /** Messages whose fate is open: the row stays until it is 0. */
  open: number
}

export interface OutboxHooks {
  stored(envelope: Envelope): void
  dropped(envelope: Envelope, acknowledged: boolean): void
  trouble(message: string | null): void
}

/**
 * The messages of one destination, on disk until their fate is known. Written as segments of many messages, read in
 * order, acknowledged one by one. One writer a destination; bounded in octets, the oldest go first.
 */
export class Outbox {
  private segments: Segment[] = []
  private queue: Envelope[] = []
  private nextNo = 1
  private cursor: Cursor = { segment: 1, done: 0, countedSegment: 0 }
  private readAt = 0
  private readIndex = 0
  private ahead = 0
  private writing: Promise<void> | null = null
  private waiters: (() => void)[] = []
  private dirty = false
  /** Messages cut from the queue and not committed yet. */
  private packing = 0
  private closing = false
  private closed = false
  /** Set while a sender is connected: then every message is committed at once. */
  eager = false
  bytes = 0

  constructor(
    private readonly db: Db,
    readonly destinationId: string,
    private capBytes: number,
    private readonly hooks: OutboxHooks,
  ) {}

  /**
   * Finds what an earlier run left. `resume` hears of each stored message that may have been on the wire or is not counted
   * yet: whether it still has to be counted and whether the cursor has it as acknowledged; it returns whether nothing more is
   * to be sent of it.
   */
  async load(resume: (item: Item, uncounted: boolean, acknowledged: boolean) => boolean): Promise<void> {
    this.cursor = await readCursor(this.db, this.destinationId)
    const rows = await listSegments(this.db, this.destinationId)
    for (const row of rows) {
      const done = new Uint8Array(row.count)
      if (row.segment < this.cursor.segment) done.fill(1)
      else if (row.segment === this.cursor.segment) done.fill(1, 0, this.cursor.done)
      const doneCount = done.reduce((a, b) => a + b, 0)
      this.segments.push({ no: row.segment, count: row.count, bytes: row.bodyBytes, items: null, done, doneCount, open: row.count })
      this.bytes += row.bodyBytes
    }
    this.nextNo = Math.max(this.cursor.segment, this.cursor.countedSegment + 1, (rows.at(-1)?.segment ?? 0) + 1)
    let ahead = 0
    for (const segment of [...this.segments]) {
      const uncounted = segment.no > this.cursor.countedSegment
      if (!uncounted && segment.doneCount === 0 && ahead >= WINDOW_MAX) continue
      const items = await this.read(segment)
      ahead += segment.count - segment.doneCount
      for (const item of items) if (resume(item, uncounted, segment.done[item.index] === 1)) this.markDone(item)
      if (segment.doneCount === segment.count || this.ahead >= AHEAD_BYTES) segment.items = null
      else this.keep(segment, items)
    }
    this.dirty = true
    this.rewind()
  }

  setCap(bytes: number): void {
    this.capBytes = bytes
  }

  get cap(): number {
    return this.capBytes
  }

  /** Messages not acknowledged yet, those still in memory included. */
  get waiting(): number {
    let n = this.queue.length + this.packing
    for (const s of this.segments) n += s.count - s.doneCount
    return n
  }

  offer(envelopes: readonly Envelope[]): void {
    for (const e of envelopes) this.queue.push(e)
    if (this.queue.length > QUEUE_MAX) for (const e of this.queue.splice(0, this.queue.length - QUEUE_MAX)) this.hooks.dropped(e, false)
    this.writing ??= this.write().finally(() => {
      this.writing = null
    })
  }

  private async write(): Promise<void> {
    let ready = await this.pack()
    while (ready && !this.closed) {
      const { no, batch, codec, rawBytes, body } = ready
      // A full segment is packed while the one before it is being committed; a smaller one waits for more.
      const following = this.queue.length >= SEGMENT_MESSAGES ? this.pack() : null
      const committed = await this.commit(no, batch.length, codec, rawBytes, body)
      if (!committed) {
        await following
        this.packing = 0
        return
      }
      this.packing -= batch.length
      const segment: Segment = {
        no,
        count: batch.length,
        bytes: body.length,
        items: null,
        done: new Uint8Array(batch.length),
        doneCount: 0,
        open: batch.length,
      }
      this.segments.push(segment)
      this.bytes += body.length
      this.dirty = true
      if (this.ahead < AHEAD_BYTES)
        this.keep(
          segment,
          batch.map((envelope, index) => ({ envelope, segment, index })),
        )
      for (const e of batch) this.hooks.stored(e)
      this.wake()
      if (this.bytes > this.capBytes) await this.shrink()
      ready = await (following ?? this.pack())
    }
  }

  /** Cuts the next segment from the queue and packs it; null when there is nothing. */
  private async pack(): Promise<{ no: number; batch: Envelope[]; codec: Codec; rawBytes: number; body: Buffer } | null> {
    if (!this.eager && !this.closing && this.queue.length > 0) await new Promise((done) => setTimeout(done, LINGER_MS))
    const batch = this.cutBatch()
    if (batch.length === 0) return null
    const no = this.nextNo++
    this.packing += batch.length
    const raw = encodeSegment(batch)
    const codec: Codec = raw.length >= PACK_FROM ? 1 : 0
    const body = codec === 1 ? await deflate(raw, { level: 1 }) : Buffer.from(raw.buffer, raw.byteOffset, raw.length)
    return { no, batch, codec, rawBytes: raw.length, body }
  }

  private cutBatch(): Envelope[] {
    let n = 0
    let size = 0
    while (n < this.queue.length && n < SEGMENT_MESSAGES && size < SEGMENT_BYTES) size += this.queue[n++]!.payload.length + 100
    return this.queue.splice(0, n)
  }

  /** Writes until it is written, however long the database is away; false only when closed meanwhile. */
  private async commit(segment: number, count: number, codec: Codec, rawBytes: number, body: Buffer): Promise<boolean> {
    for (let wait = 100; ; wait = Math.min(wait * 2, 2000)) {
      try {
        await insertSegment(this.db, this.destinationId, { segment, count, codec, rawBytes, body })
        if (wait > 100) this.hooks.trouble(null)
        return true
      } catch (e) {
        if (this.closed || (e as { code?: string }).code === '23503') return false
        this.hooks.trouble(wordsOf(e))
        await new Promise((done) => setTimeout(done, wait))
      }
    }
  }

  /** Frees room by giving up the oldest segments, but never one that is on the wire. */
  private async shrink(): Promise<void> {
    for (const segment of [...this.segments]) {
      if (this.bytes <= this.capBytes) return
      const onTheWire =
        this.eager && (segment === this.segments[this.readAt] || (segment.doneCount < segment.count && this.segments.indexOf(segment) < this.readAt))
      if (onTheWire || segment.open === 0) continue
      const items = segment.items ?? (await this.read(segment).catch(() => null))
      if (!items) return
      for (const item of items) {
        const acknowledged = segment.done[item.index] === 1
        if (!acknowledged) this.markDone(item)
        this.hooks.dropped(item.envelope, acknowledged)
      }
      segment.open = 0
      this.bytes -= segment.bytes
      segment.bytes = 0
      this.release(segment)
    }
  }

  private keep(segment: Segment, items: Item[]): void {
    segment.items = items
    this.ahead += segment.bytes
  }

  private release(segment: Segment): void {
    if (!segment.items) return
    segment.items = null
    this.ahead -= segment.bytes
  }

  private async read(segment: Segment): Promise<Item[]> {
    const row = await readSegment(this.db, this.destinationId, segment.no)
    if (!row) return []
    const raw = row.codec === 1 ? await inflate(row.body) : row.body
    return decodeSegment(raw).map((envelope, index) => ({ envelope, segment, index }))
  }

  /** The next message to send, if it is in memory. */
  next(): Item | null {
    for (;;) {
      const segment = this.segments[this.readAt]
      if (!segment) return null
      if (this.readIndex >= segment.count || segment.doneCount === segment.count) {
        this.readAt++
        this.readIndex = 0
        continue
      }
      if (!segment.items) return null
      const item = segment.items[this.readIndex++]
      if (item && segment.done[item.index] === 0) return item
    }
  }

  /** Waits until `next` may have something: reads a segment back, or waits for new messages or a wake-up. */
  async more(): Promise<void> {
    const segment = this.segments[this.readAt]
    if (segment && !segment.items) {
      const items = await this.read(segment)
      if (segment.items === null && segment.doneCount < segment.count) {
        if (items.length === 0) {
          // The row is gone though nobody here removed it: nothing can be sent from it.
          segment.done.fill(1)
          segment.doneCount = segment.count
          segment.open = 0
        } else this.keep(segment, items)
      }
      return
    }
    await this.woken()
  }

  /** Resolves at the next `wake`. */
  woken(): Promise<void> {
    return new Promise<void>((done) => this.waiters.push(done))
  }

  /** Lets everybody look again who waits in `more` or `woken`. */
  wake(): void {
    const waiters = this.waiters
    this.waiters = []
    for (const w of waiters) w()
  }

  /** Starts again at the oldest message that isn't acknowledged: after a lost link. */
  rewind(): void {
    this.readAt = Math.max(
      0,
      this.segments.findIndex((s) => s.doneCount < s.count),
    )
    if (this.segments.every((s) => s.doneCount === s.count)) this.readAt = this.segments.length
    this.readIndex = 0
  }

  private markDone(item: Item): void {
    const { segment } = item
    if (segment.done[item.index] === 1) return
    segment.done[item.index] = 1
    segment.doneCount++
    this.dirty = true
    if (segment.doneCount === segment.count) this.release(segment)
  }

  /** The destination has it (or refused it for good): it won't be sent again. */
  acknowledged(item: Item): void {
    this.markDone(item)
  }

  /** Its fate is known: its place may be freed. */
  settled(item: Item): void {
    if (item.segment.open > 0) item.segment.open--
    this.dirty = true
  }

  /** What the ledger writes together with its own figures; null when nothing changed. */
  takeFlush(): { cursor: Cursor; remove: number[]; applied: () => void } | null {
    if (!this.dirty) return null
    this.dirty = false
    const first = this.segments.find((s) => s.doneCount < s.count)
    let prefix = 0
    if (first) while (first.done[prefix] === 1) prefix++
    const last = this.segments.at(-1)?.no ?? this.cursor.countedSegment
    this.cursor = { segment: first?.no ?? this.nextNoSafe(), done: prefix, countedSegment: Math.max(last, this.cursor.countedSegment) }
    const gone = this.segments.filter((s) => s.open === 0 && s.doneCount === s.count)
    const remove = gone.map((s) => s.no)
    const applied = () => {
      if (gone.length === 0) return
      const removed = new Set(gone)
      const reading = this.segments[this.readAt]
      for (const s of gone) {
        this.bytes -= s.bytes
        this.release(s)
      }
      this.segments = this.segments.filter((s) => !removed.has(s))
      const at = reading ? this.segments.indexOf(reading) : -1
      if (at >= 0) this.readAt = at
      else {
        this.readAt = this.segments.findIndex((s) => reading !== undefined && s.no > reading.no)
        if (this.readAt < 0) this.readAt = this.segments.length
        this.readIndex = 0
      }
    }
    return { cursor: this.cursor, remove, applied }
  }

  /** The number after every committed segment: one that is being written now must not be passed over. */
  private nextNoSafe(): number {
    return (this.segments.at(-1)?.no ?? Math.max(this.cursor.countedSegment, this.cursor.segment - 1)) + 1
  }

  /** Stores what is still in memory, unless the database is away for longer than a moment, and ends. */
  async close(): Promise<void> {
    this.closing = true
    this.wake()
    await Promise.race([this.writing, new Promise((done) => setTimeout(done, CLOSE_MS))])
    this.closed = true
    await this.writing
  }
}
