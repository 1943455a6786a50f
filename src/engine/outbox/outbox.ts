import type { Cursor, KeptSegment, SegmentWrite } from '~/core/delivery/delivery-store'
import type { Envelope } from '~/core/delivery/envelope'
import { decodeSegment, parseRanges } from '~/core/delivery/segment'
import { type Cancel, within } from '../clock/clock'
import { log, wordsOf } from '../log'
import { Announced } from './announced'
import { Inside } from './inside'
import { Journal } from './journal'
import type { DropReason, OutboxHooks, OutboxLimits, OutboxOptions } from './options'
import { type Item, Segment } from './segment-state'
import { Writer } from './writer'

/** Octets kept in memory ahead of the sender; beyond it they are read back from the database. */
const AHEAD_BYTES = 16 << 20
/** Most messages that can have been on the wire beyond the cursor: the largest window of a destination. */
const WINDOW_MAX = 5000
const RETRY_MS = { first: 100, most: 2000 }
/** How often it is looked whether something waits for too long, ms. */
const AGE_LOOK_MS = 5000

/**
 * The messages of one destination, on disk until their fate is known. Written as segments of many messages, read in
 * order, acknowledged one by one. One writer a destination; bounded in octets and age, the oldest go first.
 */
export class Outbox {
  private segments: Segment[] = []
  private readonly writer: Writer
  /** Position behind the last message that was ever committed: it never goes back, whatever is left of the segments. */
  private committedTo = 0
  private readonly announced = new Announced()
  readonly journal: Journal
  /** What is in it, to look at. */
  readonly inside: Inside
  private countedSegment = 0
  private cursorSegment = 1
  private readAt = 0
  private readIndex = 0
  private ahead = 0
  private waiters: (() => void)[] = []
  private dirty = false
  private undone = 0
  /** Giving up what is oldest: one after the other. */
  private trimming: Promise<void> = Promise.resolve()
  private readonly stopLooking: Cancel
  private readTrouble = 0
  private loaded = false
  private sending = false
  bytes = 0

  constructor(private readonly o: OutboxOptions) {
    const { store, clock, destinationId, limits, hooks } = o
    this.journal = new Journal({ store, clock, destinationId, limits: limits.journal, gaveWay: (messages) => hooks.journalGaveWay(messages) })
    this.inside = new Inside({
      segments: () => this.segments,
      itemsOf: (segment) => (segment.items ? Promise.resolve(segment.items) : this.readOrNone(segment)),
      onTheWire: (item) => this.onTheWire(item),
      giveUp: (item) => this.giveUp(item, 'told'),
      inTurn: (work) => this.trim(work),
    })
    this.writer = new Writer({
      ...o,
      hooks: { ...hooks, trouble: (t) => this.troubled(t) },
      eager: () => this.sending,
      backlog: () => this.undone,
      committed: (w, batch) => this.committed(w, batch),
    })
    this.stopLooking = o.clock.every(AGE_LOOK_MS, () => {
      if (!this.sending && this.segments.some((s) => this.tooOld(s)))
        this.trim(() => this.expire()).catch((e: unknown) => log('error', 'outbox', wordsOf(e)))
    })
  }

  /** Set while a sender is connected: then every message is committed at once, unless many wait. */
  get eager(): boolean {
    return this.sending
  }
  set eager(sending: boolean) {
    this.sending = sending
    this.writer.hasten()
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
      const s = new Segment(row.segment, row.count, row.bodyBytes, row.ordinal, row.ranges, shift, this.o.clock.mono() - row.ageMs)
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
    this.writer.start()
    this.journal.start()
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
    this.committedTo = Math.max(cursor.ordinal, last ? last.ordinal + last.count : 0)
    this.writer.open(Math.max(cursor.segment, cursor.countedSegment + 1, (last?.no ?? 0) + 1), this.committedTo)
    this.announced.load(cursor.announced, this.committedTo)
  }

  setLimits(limits: OutboxLimits): void {
    this.o.limits = limits
    this.journal.setLimits(limits.journal)
  }

  private troubled(t: Parameters<OutboxHooks['trouble']>[0]): void {
    this.journal.full = t?.kind === 'full'
    this.o.hooks.trouble(t)
  }

  get cap(): number {
    return this.o.limits.bytes
  }

  /** Messages not acknowledged yet, those still in memory included. */
  get waiting(): number {
    return this.undone + this.writer.waiting
  }

  /** Those of them that are on disk. */
  get onDisk(): number {
    return this.undone
  }

  offer(envelopes: readonly Envelope[]): void {
    this.writer.offer(envelopes)
  }

  /** Resolves when all that was offered so far is stored; false: some of it was pushed out, or the outbox ended first. */
  stored(): Promise<boolean> {
    return this.writer.stored()
  }

  private committed(w: SegmentWrite, batch: Envelope[]): Promise<void> {
    const now = this.o.clock.mono()
    const shift = now - this.o.clock.wall()
    const segment = new Segment(w.segment, batch.length, w.body.length, w.ordinal, w.ranges, shift, now)
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
    this.wake()
    return this.bytes > this.cap ? this.trim(() => this.shrink()) : Promise.resolve()
  }

  private trim(work: () => Promise<void>): Promise<void> {
    const next = this.trimming.then(work)
    this.trimming = next.catch(() => undefined)
    return next
  }

  /** Whether all of it has waited for too long. */
  private tooOld(segment: Segment): boolean {
    return !segment.finished && segment.writtenAt + this.o.limits.ageMs < this.o.clock.mono()
  }

  /** Whether a message was handed to who sends, and no answer is known. */
  private onTheWire({ segment, index }: Item): boolean {
    if (!this.sending) return false
    const reading = this.segments[this.readAt]
    return !reading || segment.no < reading.no || (segment.no === reading.no && index < this.readIndex)
  }

  /** Gives up what waited for too long, while nobody sends. What the destination has waits for its fate like all else. */
  private async expire(): Promise<void> {
    for (const segment of [...this.segments]) {
      if (this.sending) return
      if (!this.tooOld(segment)) continue
      const items = segment.items ?? (await this.readOrNone(segment))
      if (items === null) return
      for (const item of items) if (segment.done[item.index] === 0) this.giveUp(item)
    }
  }

  /** It goes out no more: it waited for too long, or somebody said so. */
  private giveUp(item: Item, why: DropReason = 'old'): void {
    this.markDone(item)
    this.settled(item)
    this.o.hooks.dropped(item.envelope, false, why)
  }

  /** Its messages, none when they cannot be read; null: not now. */
  private async readOrNone(segment: Segment): Promise<readonly Item[] | null> {
    try {
      return (await this.read(segment)) ?? []
    } catch {
      return null
    }
  }

  /** Frees room by giving up the oldest segments, but never one that is on the wire. */
  private async shrink(): Promise<void> {
    const reading = this.segments[this.readAt]?.no ?? Number.POSITIVE_INFINITY
    for (const segment of [...this.segments]) {
      if (this.bytes <= this.cap) return
      const onTheWire = this.eager && (segment.no === reading || (!segment.finished && segment.no < reading))
      if (onTheWire || segment.open === 0) continue
      const items = segment.items ?? (await this.readOrNone(segment))
      if (items === null) return
      for (const item of items) {
        if (segment.settled(item.index)) continue
        const acknowledged = segment.done[item.index] === 1
        if (!acknowledged) this.markDone(item)
        this.o.hooks.dropped(item.envelope, acknowledged, 'full')
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
    segment.damaged = true
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
      if (!item || segment.done[item.index] !== 0) continue
      if (!this.tooOld(segment)) return item
      this.giveUp(item)
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
    const from = Math.max(0, (first ? first.ordinal + first.prefix : this.writer.ordinal) - n)
    const begin = this.segments[0]?.ordinal ?? this.writer.ordinal
    for (let o = from; o < begin; o++) yield o
    for (const s of this.segments) for (let i = Math.max(0, from - s.ordinal); i < s.count; i++) if (s.done[i] === 1) yield s.ordinal + i
  }

  private markDone(item: Item): void {
    const { segment } = item
    if (!segment.markDone(item.index)) return
    this.undone--
    this.dirty = true
    if (segment.finished) this.release(segment)
    this.writer.hasten()
  }

  /** It is handed to the wire now (monotonic ms). */
  went({ segment, index }: Item, mono: number): void {
    if (this.journal.keeps) segment.went(index, mono)
  }

  /** The destination has it (or refused it for good): it won't be sent again. */
  acknowledged(item: Item): void {
    item.segment.answered(item.index, this.o.clock.mono())
    this.markDone(item)
  }

  /** Its fate is known: its place may be freed. `seenAt`: when the witness saw it, monotonic ms. */
  settled(item: Item, seenAt: number | null = null): void {
    if (seenAt !== null) item.segment.seen(item.index, seenAt)
    item.segment.settle(item.index)
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
  takeFlush(): { cursor: Cursor; remove: number[]; keep: KeptSegment[]; applied: () => void } | null {
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
    const kept = this.journal.keeps ? gone.filter((s) => !s.damaged) : []
    const keep = kept.map((s) => ({ segment: s.no, hops: s.hopOctets() }))
    const inJournal = new Set(kept)
    const applied = () => {
      this.removed(gone)
      this.journal.took(kept.reduce((sum, s) => sum + s.size, 0))
      this.announced.wrote(announced)
      this.wake()
    }
    return { cursor, remove: gone.filter((s) => !inJournal.has(s)).map((s) => s.no), keep, applied }
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
    this.stopLooking()
    this.journal.stop()
    this.wake()
    await this.writer.close()
    this.wake()
  }
}
