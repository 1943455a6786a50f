import type { Counts } from '~/contract/live'
import { Histogram } from './histogram'
import { RangeSet } from './ranges'

/** Width of the ledger's finest slice, ms. */
export const SLICE_MS = 10_000

export interface Limits {
  /** Confirmed later than this after it was made: late. Not confirmed this long after the acknowledgement: missing. */
  lateMs: number
  /** A missing message is given up, and its place in the outbox freed, this long after its acknowledgement. */
  giveUpMs: number
  /** Most messages kept open at once; beyond it the oldest end as unknown. */
  openMax: number
}

export const defaultLimits: Limits = { lateMs: 30_000, giveUpMs: 600_000, openMax: 200_000 }

/** How a delivery's messages stand, each a set of sequence numbers. */
export interface Standing {
  /** Highest number that is safely in the outbox (or was). */
  storedThrough: number
  acknowledged: RangeSet
  confirmed: RangeSet
  late: RangeSet
  doubled: RangeSet
  missing: RangeSet
  dropped: RangeSet
  rejected: RangeSet
  unknown: RangeSet
}

export const standingSets = ['acknowledged', 'confirmed', 'late', 'doubled', 'missing', 'dropped', 'rejected', 'unknown'] as const

export function emptyStanding(): Standing {
  const sets = Object.fromEntries(standingSets.map((k) => [k, new RangeSet()])) as Record<(typeof standingSets)[number], RangeSet>
  return { storedThrough: 0, ...sets }
}

/** What happened in one slice since the last time it was asked; all but `missing` are to be added. */
export interface SliceChange {
  start: number
  firstSeq: number
  produced: number
  confirmed: number
  late: number
  doubled: number
  dropped: number
  rejected: number
  unknown: number
  /** The number now, not a difference. */
  missing: number
}

interface Open {
  seq: number
  deviceAt: number
  producedAt: number
  ackedAt: number
  missing: boolean
  settled: () => void
}

export type Seen = 'confirmed' | 'late' | 'doubled' | 'repeat' | 'foreign'

/**
 * The account of one delivery: pure bookkeeping over what outbox, sender and witness report. Times are epoch ms and come
 * from the caller. Messages are open from when they are sent until their fate is known; only those take memory.
 */
export class Account {
  private open = new Map<number, Open>()
  private slices = new Map<number, SliceChange>()
  private openMissing = new Map<number, number>()
  private missingNow = 0
  private latencyAdded: number[] = []
  producedThrough: number
  sentThrough: number
  changed = false

  constructor(
    readonly delivery: number,
    readonly standing: Standing = emptyStanding(),
    /** Whether a witness reads the far end; without one a message is settled by its acknowledgement. */
    public witnessed = true,
    readonly limits: Limits = defaultLimits,
  ) {
    this.producedThrough = standing.storedThrough
    this.sentThrough = standing.acknowledged.max ?? 0
  }

  /** The next sequence number; the message counts as produced. */
  next(): number {
    return ++this.producedThrough
  }

  private slice(producedAt: number, seq: number): SliceChange {
    const start = Math.floor(producedAt / SLICE_MS) * SLICE_MS
    let s = this.slices.get(start)
    if (!s) {
      const missing = this.openMissing.get(start) ?? 0
      s = { start, firstSeq: seq, produced: 0, confirmed: 0, late: 0, doubled: 0, dropped: 0, rejected: 0, unknown: 0, missing }
      this.slices.set(start, s)
    } else if (seq < s.firstSeq) s.firstSeq = seq
    this.changed = true
    return s
  }

  /** It is in the outbox for good. */
  stored(seq: number, producedAt: number): void {
    this.slice(producedAt, seq).produced++
    if (seq > this.standing.storedThrough) this.standing.storedThrough = seq
    if (seq > this.producedThrough) this.producedThrough = seq
  }

  /** Handed to the wire. `settled` is called once, when its place in the outbox can be freed. */
  sent(seq: number, deviceAt: number, producedAt: number, settled: () => void): void {
    if (seq > this.sentThrough) this.sentThrough = seq
    if (this.open.has(seq)) return
    if (this.isSettled(seq)) {
      settled()
      return
    }
    this.open.set(seq, { seq, deviceAt, producedAt, ackedAt: 0, missing: false, settled })
    if (this.open.size > this.limits.openMax) {
      const [oldest] = this.open.values()
      if (oldest) this.end(oldest, 'unknown')
    }
  }

  private isSettled(seq: number): boolean {
    const s = this.standing
    return s.confirmed.has(seq) || s.missing.has(seq) || s.rejected.has(seq) || s.dropped.has(seq) || s.unknown.has(seq)
  }

  private end(o: Open, how: 'confirmed' | 'missing' | 'rejected' | 'unknown'): void {
    this.open.delete(o.seq)
    this.standing[how].add(o.seq)
    if (how !== 'missing') this.setMissing(o, false)
    else this.missingNow -= o.missing ? 1 : 0
    if (how !== 'confirmed' && how !== 'missing') this.slice(o.producedAt, o.seq)[how]++
    this.changed = true
    o.settled()
  }

  private setMissing(o: Open, missing: boolean): void {
    if (o.missing === missing) return
    o.missing = missing
    const step = missing ? 1 : -1
    const s = this.slice(o.producedAt, o.seq)
    const now = (this.openMissing.get(s.start) ?? 0) + step
    if (now > 0) this.openMissing.set(s.start, now)
    else this.openMissing.delete(s.start)
    s.missing = now
    this.missingNow += step
  }

  /** The destination has it. */
  acknowledged(seq: number, now: number): void {
    this.standing.acknowledged.add(seq)
    this.changed = true
    const o = this.open.get(seq)
    if (!o) return
    if (o.ackedAt === 0) o.ackedAt = now
    if (!this.witnessed) {
      this.open.delete(seq)
      o.settled()
    }
  }

  /** The destination refused it for good. */
  refused(seq: number): void {
    const o = this.open.get(seq)
    if (o) this.end(o, 'rejected')
  }

  /** Its place in the outbox had to be freed before the witness could say anything. */
  forgotten(seq: number): void {
    const o = this.open.get(seq)
    if (o) this.end(o, 'unknown')
  }

  /** Pushed out of a full outbox before it could be sent. */
  dropped(seq: number, producedAt: number): void {
    if (this.isSettled(seq)) return
    this.standing.dropped.add(seq)
    this.slice(producedAt, seq).dropped++
    const o = this.open.get(seq)
    if (o) {
      this.setMissing(o, false)
      this.open.delete(seq)
      o.settled()
    }
  }

  /** The witness saw it. `redelivery` is set when the broker repeats it to the witness (MQTT 5 3.3.1.1). */
  seen(seq: number, now: number, redelivery: boolean): Seen {
    if (seq < 1 || seq > this.producedThrough) return 'foreign'
    const s = this.standing
    if (s.confirmed.has(seq)) {
      if (redelivery) return 'repeat'
      if (s.doubled.add(seq)) {
        this.doubledLately.push(seq)
        this.changed = true
      }
      return 'doubled'
    }
    const o = this.open.get(seq)
    if (!o) {
      // Given up or ended as unknown before: it has come after all. Its slice is found by number when it is written.
      for (const set of [s.missing, s.unknown, s.dropped, s.rejected]) set.delete(seq)
      s.confirmed.add(seq)
      s.late.add(seq)
      this.afterAll.push(seq)
      this.changed = true
      return 'late'
    }
    const late = now - o.producedAt > this.limits.lateMs
    const slice = this.slice(o.producedAt, seq)
    slice.confirmed++
    if (late) {
      slice.late++
      s.late.add(seq)
    }
    this.latencyAdded.push(now - o.deviceAt)
    this.end(o, 'confirmed')
    return late ? 'late' : 'confirmed'
  }

  private doubledLately: number[] = []
  private afterAll: number[] = []

  /**
   * Says which open messages are missing. `witness` is null while it is away: then nobody can say, and nothing becomes
   * missing. What was acknowledged before `blindBefore` (the witness began to listen only then) ends as unknown instead.
   */
  judge(now: number, witness: { upSince: number; blindBefore: number } | null): void {
    if (!this.witnessed || witness === null) return
    for (const o of this.open.values()) {
      if (o.ackedAt === 0) continue
      const since = Math.max(o.ackedAt, witness.upSince)
      if (o.ackedAt < witness.blindBefore) {
        if (now - since > this.limits.lateMs) this.end(o, 'unknown')
        continue
      }
      if (now - since > this.limits.lateMs) this.setMissing(o, true)
      if (now - since > this.limits.giveUpMs) this.end(o, 'missing')
    }
  }

  counts(): Counts {
    const s = this.standing
    const missing = s.missing.count + this.missingNow
    const known = s.confirmed.count + missing + s.dropped.count + s.rejected.count + s.unknown.count
    return {
      produced: this.producedThrough,
      stored: s.storedThrough,
      sent: this.sentThrough,
      acknowledged: s.acknowledged.count,
      confirmed: s.confirmed.count,
      waiting: Math.max(0, s.storedThrough - (this.witnessed ? known : Math.max(known, s.acknowledged.count))),
      late: s.late.count,
      missing,
      doubled: s.doubled.count,
      dropped: s.dropped.count,
      rejected: s.rejected.count,
      unknown: s.unknown.count,
    }
  }

  /** How many messages are open. */
  get openCount(): number {
    return this.open.size
  }

  /** What is to be written since the last call; the caller keeps it until it is safely written. */
  take(): AccountChange {
    const change: AccountChange = {
      delivery: this.delivery,
      slices: [...this.slices.values()],
      doubled: this.doubledLately,
      afterAll: this.afterAll,
      latencies: this.latencyAdded,
      storedThrough: this.standing.storedThrough,
      sets: Object.fromEntries(standingSets.map((k) => [k, this.standing[k].toString()])) as AccountChange['sets'],
    }
    this.slices = new Map()
    this.doubledLately = []
    this.afterAll = []
    this.latencyAdded = []
    this.changed = false
    return change
  }
}

export interface AccountChange {
  delivery: number
  slices: SliceChange[]
  /** Numbers that became doubled; their slices are found by number. */
  doubled: number[]
  /** Numbers that came after they had been given up. */
  afterAll: number[]
  latencies: number[]
  storedThrough: number
  sets: Record<(typeof standingSets)[number], string>
}

/** The last hour of latencies, one histogram a minute. */
export class LatencyHour {
  readonly minutes = new Map<number, Histogram>()

  add(ms: number, now: number): void {
    const minute = Math.floor(now / 60_000)
    let h = this.minutes.get(minute)
    if (!h) {
      h = new Histogram()
      this.minutes.set(minute, h)
      for (const m of this.minutes.keys()) if (m < minute - 60) this.minutes.delete(m)
    }
    h.add(ms)
  }

  total(): Histogram {
    const all = new Histogram()
    for (const h of this.minutes.values()) all.merge(h)
    return all
  }
}
