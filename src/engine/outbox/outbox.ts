import { type Cursor, type DeliveryStore, Fenced, type SegmentWrite, type StoreTrouble } from '~/core/delivery/delivery-store'
import type { Envelope } from '~/core/delivery/envelope'
import { decodeSegment, encodeSegment, parseRanges, rangesOf } from '~/core/delivery/segment'
import { type Clock, sleep, within } from '../clock/clock'
import { log, wordsOf } from '../log'
import { Announced } from './announced'
import { type DropRun, DropRuns } from './drop-runs'
import type { Packing } from './packing'
import { Passage } from './passage'
import { type Item, Segment } from './segment-state'

/** Most messages and octets of one segment. */
const SEGMENT_MESSAGES = 1000
const SEGMENT_BYTES = 1 << 20
/** Segments smaller than this are not worth packing. */
const PACK_FROM = 1024
/** Octets kept in memory ahead of the sender; beyond it they are read back from the database. */
const AHEAD_BYTES = 16 << 20
/** Most messages and octets waiting in memory while the database is away; beyond it the oldest are dropped. */
const QUEUE_MAX = 50_000
const QUEUE_BYTES = 128 << 20
/** Most messages that can have been on the wire beyond the cursor: the largest window of a destination. */
const WINDOW_MAX = 5000
/** How long an ending outbox waits for a database that is away, ms. */
const CLOSE_MS = 2000
/** While nobody sends, or a backlog waits, messages are gathered this long: segments that are whole take a tenth of the room. */
const LINGER_MS = 250
/** So many messages waiting are a backlog. */
const BACKLOG = 2 * SEGMENT_MESSAGES
const RETRY_MS = { first: 100, most: 2000 }

export interface OutboxHooks {
  stored(envelope: Envelope): void
  /** Pushed out of the full outbox; `acknowledged`: the destination has it, and only its fate is not known. */
  dropped(envelope: Envelope, acknowledged: boolean): void
  /** Pushed out of memory before they could be stored. */
  lost(run: DropRun): void
  /** The row with these numbers is gone or can't be read. */
  gone(delivery: number, first: number, last: number, why: string): void
  /** What keeps it from storing; null when it stores again. `lost` messages so far were pushed out of memory meanwhile. */
  trouble(trouble: { kind: StoreTrouble; words: string; lost: number } | null): void
  /** Another engine writes. */
  fenced(): void
}

export interface OutboxOptions {
  store: DeliveryStore
  clock: Clock
  packing: Packing
  destinationId: string
  capBytes: number
  hooks: OutboxHooks
  /** What an error of the store means. */
  troubleOf(e: unknown): StoreTrouble
}

interface Ready {
  write: SegmentWrite
  batch: Envelope[]
  before: DropRun[]
}

/**
 * The messages of one destination, on disk until their fate is known. Written as segments of many messages, read in
 * order, acknowledged one by one. One writer a destination; bounded in octets, the oldest go first.
 */
export class Outbox {
  private segments: Segment[] = []
  private queue: Envelope[] = []
  private queueBytes = 0
  private readonly drops = new DropRuns()
  private readonly passage = new Passage()
  private nextNo = 1
  private ordinal = 0
  /** Position behind the last message that was ever committed: it never goes back, whatever is left of the segments. */
  private committedTo = 0
  private readonly announced = new Announced()
  private countedSegment = 0
  private cursorSegment = 1
  private readAt = 0
  private readIndex = 0
  private ahead = 0
  private writing: Promise<void> | null = null
  private waiters: (() => void)[] = []
  private dirty = false
  /** Messages cut from the queue and not committed yet. */
  private packing = 0
  private undone = 0
  private closing = false
  private closed = false
  private readTrouble = 0
  private loaded = false
  private sending = false
  /** Ends the gathering of messages. */
  private lingered: (() => void) | null = null
  bytes = 0

  constructor(private readonly o: OutboxOptions) {}

  /** Set while a sender is connected: then every message is committed at once, unless many wait. */
  get eager(): boolean {
    return this.sending
  }
  set eager(sending: boolean) {
    this.sending = sending
    this.hasten()
  }

  get destinationId(): string {
    return this.o.destinationId
  }

  /**
   * Finds what an earlier run left. `resume` hears of each stored message that may have been on the wire or is not counted
   * yet: whether it still has to be counted and whether the cursor has it as acknowledged; it returns whether nothing more is
   * to be sent of it. Gives the ranges of numbers that are there. What is offered before waits for it.
   */
  async load(resume: (item: Item, uncounted: boolean, acknowledged: boolean) => boolean): Promise<[number, number, number][]> {
    const { cursor, segments: rows } = await this.o.store.loadOutbox(this.destinationId)
    const shift = this.o.clock.mono() - this.o.clock.wall()
    const segments = rows.map((row) => {
      const s = new Segment(row.segment, row.count, row.bodyBytes, row.ordinal, row.ranges, shift)
      const done = row.segment < cursor.segment ? row.count : row.segment === cursor.segment ? Math.min(cursor.done, row.count) : 0
      for (let i = 0; i < done; i++) s.markDone(i)
      return s
    })
    const read = new Map<Segment, Item[] | string>()
    let ahead = 0
    for (const segment of segments) {
      if (segment.no <= cursor.countedSegment && segment.doneCount === 0 && ahead >= WINDOW_MAX) continue
      const items = await this.decode(segment)
      read.set(segment, items)
      if (typeof items !== 'string') ahead += segment.count - segment.doneCount
    }
    // All in one turn: what is counted and where the cursor stands is written together, or not at all.
    this.takeUp(cursor, segments)
    for (const [segment, items] of read) {
      if (typeof items === 'string') {
        this.unreadable(segment, items)
        continue
      }
      const uncounted = segment.no > cursor.countedSegment
      for (const item of items) if (resume(item, uncounted, segment.done[item.index] === 1)) this.markDone(item)
      if (!segment.finished && this.ahead < AHEAD_BYTES) this.keep(segment, items)
    }
    this.dirty = true
    this.loaded = true
    this.rewind()
    this.begin()
    return this.segments.filter((s) => s.open > 0).flatMap((s) => parseRanges(s.ranges))
  }

  private takeUp(cursor: Cursor, segments: Segment[]): void {
    this.segments = segments
    this.bytes = this.undone = this.ahead = 0
    for (const s of segments) {
      this.bytes += s.bytes
      this.undone += s.count - s.doneCount
    }
    this.countedSegment = cursor.countedSegment
    this.cursorSegment = cursor.segment
    const last = segments.at(-1)
    this.nextNo = Math.max(cursor.segment, cursor.countedSegment + 1, (last?.no ?? 0) + 1)
    this.ordinal = this.committedTo = Math.max(cursor.ordinal, last ? last.ordinal + last.count : 0)
    this.announced.load(cursor.announced, this.ordinal)
  }

  setCap(bytes: number): void {
    this.o.capBytes = bytes
  }

  get cap(): number {
    return this.o.capBytes
  }

  /** Messages not acknowledged yet, those still in memory included. */
  get waiting(): number {
    return this.undone + this.queue.length + this.packing
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
    if (!this.loaded || this.closed || this.writing || this.queue.length === 0) return
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
      this.committed(write, batch)
      if (this.bytes > this.cap) await this.shrink()
      ready = await (following ?? this.pack())
    }
  }

  private committed(w: SegmentWrite, batch: Envelope[]): void {
    const shift = this.o.clock.mono() - this.o.clock.wall()
    const segment = new Segment(w.segment, batch.length, w.body.length, w.ordinal, w.ranges, shift)
    this.segments.push(segment)
    this.committedTo = w.ordinal + batch.length
    this.bytes += w.body.length
    this.undone += batch.length
    this.dirty = true
    if (this.ahead < AHEAD_BYTES)
      this.keep(
        segment,
        batch.map((envelope, index) => ({ envelope, segment, index })),
      )
    for (const e of batch) this.o.hooks.stored(e)
    this.passage.leave(batch.length)
    this.wake()
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
    return few && !this.closing && (!this.eager || this.undone > BACKLOG)
  }

  /** Ends the gathering when there is no reason for it any more. */
  private hasten(): void {
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
        await this.o.store.append(this.destinationId, write)
        if (troubled) this.o.hooks.trouble(null)
        return true
      } catch (e) {
        if (e instanceof Fenced) {
          this.closed = true
          this.passage.end()
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

  /** Frees room by giving up the oldest segments, but never one that is on the wire. */
  private async shrink(): Promise<void> {
    const reading = this.segments[this.readAt]?.no ?? Number.POSITIVE_INFINITY
    for (const segment of [...this.segments]) {
      if (this.bytes <= this.cap) return
      const onTheWire = this.eager && (segment.no === reading || (!segment.finished && segment.no < reading))
      if (onTheWire || segment.open === 0) continue
      let items: Item[] | null = segment.items
      try {
        items ??= await this.read(segment)
      } catch {
        return
      }
      for (const item of items ?? []) {
        const acknowledged = segment.done[item.index] === 1
        if (!acknowledged) this.markDone(item)
        this.o.hooks.dropped(item.envelope, acknowledged)
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

  /** Its messages, or why the row is no use. Throws when the store is away. */
  private async decode(segment: Segment): Promise<Item[] | string> {
    const row = await this.o.store.readSegment(this.destinationId, segment.no)
    if (!row) return 'its row is gone'
    try {
      const raw = row.codec === 1 ? await this.o.packing.unpack(row.body) : row.body
      const envelopes = decodeSegment(raw, segment.shift)
      if (envelopes.length !== segment.count) return `it holds ${envelopes.length} messages instead of ${segment.count}`
      return envelopes.map((envelope, index) => ({ envelope, segment, index }))
    } catch (e) {
      return wordsOf(e)
    }
  }

  /** Nothing can be sent from it: everybody concerned hears of it. */
  private unreadable(segment: Segment, why: string): void {
    this.undone -= segment.markAllDone()
    segment.open = 0
    this.dirty = true
    for (const [delivery, first, last] of parseRanges(segment.ranges)) this.o.hooks.gone(delivery, first, last, why)
  }

  /** Its messages; null when the row is gone or damaged, of which everybody concerned has heard then. Throws when the store is away. */
  private async read(segment: Segment): Promise<Item[] | null> {
    const items = await this.decode(segment)
    if (typeof items !== 'string') return items
    if (!segment.finished || segment.open > 0) this.unreadable(segment, items)
    return null
  }

  /** The next message to send, if it is in memory. */
  next(): Item | null {
    for (;;) {
      const segment = this.segments[this.readAt]
      if (!segment) return null
      if (this.readIndex >= segment.count || segment.finished) {
        this.readAt++
        this.readIndex = 0
        continue
      }
      if (!segment.items) return null
      const item = segment.items[this.readIndex++]
      if (item && segment.done[item.index] === 0) return item
    }
  }

  /** Waits until `next` may have something: reads a segment back, or waits for new messages or a wake-up. Never throws. */
  async more(): Promise<void> {
    const segment = this.segments[this.readAt]
    if (!segment || segment.items) return this.woken()
    try {
      const items = await this.read(segment)
      this.readTrouble = 0
      if (items && segment.items === null && !segment.finished) this.keep(segment, items)
    } catch (e) {
      if (this.readTrouble++ === 0) log('warn', 'outbox', `cannot read back what waits: ${wordsOf(e)}; tries again`)
      await within(this.o.clock, Math.min(RETRY_MS.first * 2 ** this.readTrouble, RETRY_MS.most), this.woken())
    }
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
    const first = this.segments.findIndex((s) => !s.finished)
    this.readAt = first < 0 ? this.segments.length : first
    this.readIndex = 0
  }

  /** Positions, among the last `n` before the oldest that isn't acknowledged and all after it, of messages that are done. */
  *doneLately(n: number): Generator<number> {
    const first = this.segments.find((s) => !s.finished)
    const from = Math.max(0, (first ? first.ordinal + first.prefix : this.ordinal) - n)
    const begin = this.segments[0]?.ordinal ?? this.ordinal
    for (let o = from; o < begin; o++) yield o
    for (const s of this.segments) for (let i = Math.max(0, from - s.ordinal); i < s.count; i++) if (s.done[i] === 1) yield s.ordinal + i
  }

  private markDone(item: Item): void {
    const { segment } = item
    if (!segment.markDone(item.index)) return
    this.undone--
    this.dirty = true
    if (segment.finished) this.release(segment)
    this.hasten()
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

  /** Whether a message of an earlier run may have been on the wire. */
  inDoubt(ordinal: number): boolean {
    return this.announced.inDoubt(ordinal)
  }

  /** Whether it is written that a message as far on as this may go out; else it soon will be, and whoever waits is woken. */
  mayGoOut(ordinal: number): boolean {
    if (this.announced.covers(ordinal)) return true
    this.dirty = true
    return false
  }

  /** What the ledger writes together with its own figures; null when nothing changed. */
  takeFlush(): { cursor: Cursor; remove: number[]; applied: () => void } | null {
    if (!this.dirty || !this.loaded) return null
    this.dirty = false
    const first = this.segments.find((s) => !s.finished)
    this.countedSegment = Math.max(this.segments.at(-1)?.no ?? 0, this.countedSegment)
    // After every committed segment: one that is being written now must not be passed over.
    this.cursorSegment = first?.no ?? Math.max(this.segments.at(-1)?.no ?? 0, this.countedSegment, this.cursorSegment - 1) + 1
    const announced = this.announced.next()
    const done = first?.prefix ?? 0
    const cursor = { segment: this.cursorSegment, done, countedSegment: this.countedSegment, ordinal: this.committedTo, announced }
    const gone = this.segments.filter((s) => s.open === 0 && s.finished)
    const applied = () => {
      this.removed(gone)
      this.announced.wrote(announced)
      this.wake()
    }
    return { cursor, remove: gone.map((s) => s.no), applied }
  }

  private removed(gone: Segment[]): void {
    if (gone.length === 0) return
    const set = new Set(gone)
    const reading = this.segments[this.readAt]
    for (const s of gone) {
      this.bytes -= s.bytes
      this.release(s)
    }
    this.segments = this.segments.filter((s) => !set.has(s))
    const at = reading ? this.segments.indexOf(reading) : -1
    if (at >= 0) this.readAt = at
    else {
      this.readAt = this.segments.findIndex((s) => reading !== undefined && s.no > reading.no)
      if (this.readAt < 0) this.readAt = this.segments.length
      this.readIndex = 0
    }
  }

  /** Stores what is still in memory, unless the database is away for longer than a moment, and ends. */
  async close(): Promise<void> {
    this.closing = true
    this.hasten()
    this.wake()
    if (this.writing) await within(this.o.clock, CLOSE_MS, this.writing)
    this.closed = true
    this.passage.end()
    this.wake()
  }
}
