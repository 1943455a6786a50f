import type { Counts, Verdict } from '~/contract/live'
import { TopicOrder } from './topic-order'
import { emptyStanding, emptyTally, ODD_WINDOW, type OddSet, oddSets, type Standing, type Tally, verdictOf } from './verdict'

/** Width of the ledger's finest slice, ms. */
export const SLICE_MS = 10_000

/** Digests of arrived messages remembered a delivery, to tell whether a second copy is the same. */
const RECENT = 1024

export interface Limits {
  /** Confirmed later than this after it was made: late. Not arrived this long after the acknowledgement: missing. */
  lateMs: number
  /** The place of a missing message in the outbox is freed this long after its acknowledgement. */
  giveUpMs: number
  /** Most messages kept open at once; beyond it the oldest end as unknown. */
  openMax: number
}

export const defaultLimits: Limits = { lateMs: 30_000, giveUpMs: 600_000, openMax: 500_000 }

/** What happened in one slice since the last time it was asked; all but the numbers that name it are to be added. */
export type SliceChange = Tally & {
  start: number
  /** The lowest number stored in it; null when none was. */
  firstSeq: number | null
  produced: number
  foreign: number
}

/** A message with a verdict got another; its slice is found by its number. */
export interface Move {
  seq: number
  from: Verdict
  to: Verdict
}

/** A message that goes out. */
export interface Sending {
  seq: number
  topic: string
  /** Of its payload; see digest.ts. */
  digest: number
  qos: 0 | 1 | 2
  deviceAt: number
  producedAt: number
}

/** What the witness can say just now. All times epoch ms. */
export interface WitnessView {
  connectedAt: number
  /** Since when it is through with what waited for it at the broker; null before. */
  caughtUpAt: number | null
  /** What went out before cannot be known: its session at the broker is younger. */
  blindBefore: number
}

export type Seen = 'confirmed' | 'late' | 'disordered' | 'doubled' | 'altered' | 'foreign'

/** One copy of a message that the witness saw; `counted` hears once what it turned out to be, now or a little later. */
export interface Sighting {
  seq: number
  topic: string
  digest: number
  at: number
  counted: (how: Seen) => void
}

interface Open extends Sending {
  ackedAt: number
  missing: boolean
  overtaken: boolean
  gone: boolean
  order: TopicOrder<Open>
  settled: () => void
}

/**
 * The account of one delivery: pure bookkeeping over what outbox, sender and witness report. Times are epoch ms and come
 * from the caller. Messages are open from when they are sent until they arrived or were given up; only those take memory.
 */
export class Account {
  private open = new Map<number, Open>()
  private topics = new Map<string, TopicOrder<Open>>()
  private slices = new Map<number, SliceChange>()
  private dirtyWindows = new Set<number>()
  private moves: Move[] = []
  private latencyAdded: number[] = []
  /** Copies of messages that were sent by an earlier run and not yet again by this one, in the order in which they came. */
  private early: Sighting[] = []
  private readonly recentSeq = new Float64Array(RECENT)
  private readonly recentDigest = new Float64Array(RECENT)
  private openAcked = 0
  /** The highest number handed to the wire by this run. */
  private sentNow = 0
  producedThrough: number
  sentThrough: number
  /** When the newest message was made, epoch ms: never goes back, though the clock may. */
  madeAt: number
  changed = false

  constructor(
    readonly delivery: number,
    readonly standing: Standing = emptyStanding(),
    /** Whether a witness reads the far end; without one nothing is known beyond the acknowledgement. */
    public witnessed = true,
    public limits: Limits = defaultLimits,
  ) {
    this.producedThrough = standing.storedThrough
    this.sentThrough = standing.answered.max ?? 0
    this.madeAt = standing.madeAt
  }

  /** The next sequence number; the message counts as produced, at `madeAt`. */
  next(now: number): number {
    if (now > this.madeAt) this.madeAt = now
    return ++this.producedThrough
  }

  verdict(seq: number): ReturnType<typeof verdictOf> {
    return verdictOf(this.standing, seq)
  }

  private slice(at: number): SliceChange {
    const start = Math.floor(at / SLICE_MS) * SLICE_MS
    let s = this.slices.get(start)
    if (!s) {
      s = { start, firstSeq: null, produced: 0, foreign: 0, ...emptyTally() }
      this.slices.set(start, s)
    }
    this.changed = true
    return s
  }

  private mark(set: OddSet, seq: number): boolean {
    if (!this.standing.odd[set].add(seq)) return false
    this.dirtyWindows.add(Math.floor(seq / ODD_WINDOW))
    return true
  }

  private unmark(set: OddSet, seq: number): boolean {
    if (!this.standing.odd[set].delete(seq)) return false
    this.dirtyWindows.add(Math.floor(seq / ODD_WINDOW))
    return true
  }

  /** It is in the outbox for good. */
  stored(seq: number, producedAt: number): void {
    const slice = this.slice(producedAt)
    slice.produced++
    if (slice.firstSeq === null || seq < slice.firstSeq) slice.firstSeq = seq
    const s = this.standing
    if (seq > s.storedThrough) s.storedThrough = seq
    if (producedAt > s.madeAt) s.madeAt = producedAt
    if (seq > this.producedThrough) this.producedThrough = seq
    if (producedAt > this.madeAt) this.madeAt = producedAt
  }

  private order(topic: string): TopicOrder<Open> {
    let order = this.topics.get(topic)
    if (!order) {
      if (this.topics.size >= 20_000) for (const [t, o] of this.topics) if (o.empty) this.topics.delete(t)
      this.topics.set(topic, (order = new TopicOrder()))
    }
    return order
  }

  /** Handed to the wire, for the first time or again. `settled` is called once, when its place in the outbox can be freed. */
  sent(m: Sending, settled: () => void): void {
    const { seq } = m
    if (seq > this.sentThrough) this.sentThrough = seq
    if (seq > this.sentNow) this.sentNow = seq
    if (this.open.has(seq)) return
    const { odd, known } = this.standing
    const missing = odd.missing.has(seq)
    const order = this.order(m.topic)
    if (known.has(seq) && !missing) {
      order.remember(seq, m.digest)
      this.remember(seq, m.digest)
      settled()
    } else {
      const { topic, digest, qos, deviceAt, producedAt } = m
      const open: Open = {
        seq,
        topic,
        digest,
        qos,
        deviceAt,
        producedAt,
        ackedAt: 0,
        missing,
        overtaken: odd.overtaken.has(seq),
        gone: false,
        order,
        settled,
      }
      this.open.set(seq, open)
      order.add(open)
      if (this.open.size > this.limits.openMax) {
        const [oldest] = this.open.values()
        if (oldest) this.end(oldest, 'unknown')
      }
    }
    if (this.early.length > 0) this.countEarly()
  }

  private remember(seq: number, digest: number): void {
    this.recentSeq[seq % RECENT] = seq
    this.recentDigest[seq % RECENT] = digest
  }

  /** Ends an open message. */
  private close(o: Open): void {
    this.open.delete(o.seq)
    if (o.ackedAt > 0 && !o.missing) this.openAcked--
    this.changed = true
    o.settled()
  }

  /** Gives a verdict to a message that waits or is missing. */
  private give(o: Pick<Open, 'seq' | 'producedAt' | 'missing'>, to: Verdict): void {
    const { tally, known } = this.standing
    const slice = this.slice(o.producedAt)
    if (o.missing) {
      this.unmark('missing', o.seq)
      tally.missing--
      slice.missing--
    }
    known.add(o.seq)
    tally[to]++
    slice[to]++
  }

  private end(o: Open, how: 'dropped' | 'rejected' | 'unknown'): void {
    this.give(o, how)
    this.mark(how, o.seq)
    o.gone = true
    o.order.forget(o)
    this.close(o)
  }

  /** The destination has it. */
  acknowledged(seq: number, now: number): void {
    const s = this.standing
    if (s.answered.add(seq)) s.acknowledged++
    this.changed = true
    const o = this.open.get(seq)
    if (!o) return
    if (o.ackedAt === 0) {
      o.ackedAt = now
      if (!o.missing) this.openAcked++
    }
    if (!this.witnessed) this.end(o, 'unknown')
  }

  /** The destination refused it for good. */
  refused(seq: number): void {
    this.standing.answered.add(seq)
    this.changed = true
    const o = this.open.get(seq)
    if (o) this.end(o, 'rejected')
  }

  /** Its place in the outbox had to be freed before the witness could say anything. */
  forgotten(seq: number): void {
    const o = this.open.get(seq)
    if (!o) return
    if (!o.missing) return this.end(o, 'unknown')
    o.gone = true
    o.order.forget(o)
    this.close(o)
  }

  /** Pushed out of a full outbox before it could be sent. */
  dropped(seq: number, producedAt: number): void {
    this.standing.answered.add(seq)
    this.changed = true
    const o = this.open.get(seq)
    if (o) this.end(o, 'dropped')
    else if (!this.standing.known.has(seq)) {
      this.give({ seq, producedAt, missing: false }, 'dropped')
      this.mark('dropped', seq)
    }
    if (this.early.length > 0) this.countEarly()
  }

  /** The witness saw a copy of it. */
  seen(s: Sighting): void {
    if (this.early.length > 0 || !this.count(s)) this.early.push(s)
  }

  /** Which message of this delivery a copy without an id is, by its topic and payload; null: none. */
  find(topic: string, digest: number): number | null {
    return this.topics.get(topic)?.find(digest) ?? null
  }

  /** Whether all up to this number has been handed to the wire by this run, or needs not to be. */
  wasSent(seq: number): boolean {
    return seq <= this.sentNow || this.standing.answered.has(seq) || seq < 1
  }

  /** Something came on a topic of this delivery that it never sent. */
  foreign(at: number): void {
    this.standing.foreign++
    this.slice(at).foreign++
  }

  private countEarly(): void {
    let n = 0
    while (n < this.early.length && this.count(this.early[n]!)) n++
    this.early.splice(0, n)
  }

  /** False when it can't be counted yet. */
  private count(s: Sighting): boolean {
    const { seq } = s
    if (seq < 1 || seq > this.producedThrough) {
      this.foreign(s.at)
      s.counted('foreign')
      return true
    }
    const o = this.open.get(seq)
    if (o) {
      s.counted(this.arrive(o, s))
      return true
    }
    // It goes out again, and only then can the copy be compared with it.
    if (seq > this.sentNow && !this.standing.answered.has(seq)) return false
    if (!this.standing.known.has(seq)) return false
    s.counted(this.again(s))
    return true
  }

  /** The first copy of an open message. */
  private arrive(o: Open, s: Sighting): Seen {
    const { seq, order } = o
    const late = s.at - o.producedAt > this.limits.lateMs
    const altered = s.digest !== o.digest || s.topic !== o.topic
    const disordered = o.overtaken
    order.arrived(o, (passed) => this.mark('overtaken', passed.seq))
    if (disordered) this.unmark('overtaken', seq)
    const verdict = altered ? 'altered' : disordered ? 'disordered' : late ? 'late' : 'confirmed'
    this.give(o, verdict)
    if (late) this.mark('late', seq)
    if (disordered) this.mark('disordered', seq)
    if (altered) this.mark('altered', seq)
    order.remember(seq, o.digest)
    this.remember(seq, o.digest)
    this.latencyAdded.push(s.at - o.deviceAt)
    this.close(o)
    return verdict
  }

  /** A copy of a message whose verdict was given: a second one, or the first after it had been given up. */
  private again(s: Sighting): Seen {
    const { seq } = s
    const { odd, tally } = this.standing
    const from = this.verdict(seq) as Verdict
    if (from === 'missing' || from === 'dropped' || from === 'rejected' || from === 'unknown') {
      this.unmark(from, seq)
      this.mark('late', seq)
      if (odd.overtaken.has(seq)) {
        this.unmark('overtaken', seq)
        this.mark('disordered', seq)
      }
    } else this.mark('doubled', seq)
    if (this.recentSeq[seq % RECENT] === seq && this.recentDigest[seq % RECENT] !== s.digest) this.mark('altered', seq)
    const to = this.verdict(seq) as Seen & Verdict
    if (to !== from) {
      tally[from]--
      tally[to]++
      this.moves.push({ seq, from, to })
      this.changed = true
    }
    return to
  }

  /**
   * Says which open messages are missing. `witness` is null while it is away: then nobody can say, and nothing becomes
   * missing. What went out while nobody could see it ends as unknown instead: before the witness's session, or at QoS 0
   * (which no broker repeats) before its present connection.
   */
  judge(now: number, witness: WitnessView | null): void {
    if (!this.witnessed || witness === null || witness.caughtUpAt === null) return
    const { lateMs, giveUpMs } = this.limits
    for (const o of this.open.values()) {
      if (o.ackedAt === 0) continue
      const waited = now - Math.max(o.ackedAt, witness.caughtUpAt)
      if (waited <= lateMs) continue
      if (!o.missing) {
        const blindBefore = o.qos === 0 ? Math.max(witness.connectedAt, witness.blindBefore) : witness.blindBefore
        if (o.ackedAt < blindBefore) {
          this.end(o, 'unknown')
          continue
        }
        this.give(o, 'missing')
        this.mark('missing', o.seq)
        o.missing = true
        this.openAcked--
      }
      if (waited > giveUpMs) {
        o.gone = true
        o.order.forget(o)
        this.close(o)
      }
    }
  }

  /** How its messages stand now; while the witness is `away`, what was acknowledged and not seen is unknown. */
  counts(away = false): Counts {
    const s = this.standing
    const t = s.tally
    const arrived = t.confirmed + t.late + t.disordered + t.doubled + t.altered
    const hidden = away ? this.openAcked : 0
    return {
      produced: this.producedThrough,
      stored: s.storedThrough,
      sent: this.sentThrough,
      acknowledged: s.acknowledged,
      arrived,
      waiting: s.storedThrough - s.known.count - hidden,
      ...t,
      unknown: t.unknown + hidden,
      foreign: s.foreign,
    }
  }

  /** How many messages are open. */
  get openCount(): number {
    return this.open.size
  }

  /** How many sightings wait for their message to be sent again. */
  get earlyCount(): number {
    return this.early.length
  }

  /** What is to be written since the last call; the caller keeps it until it is safely written. */
  take(): AccountChange {
    const s = this.standing
    const odd = [...this.dirtyWindows].map((window) => {
      const first = window * ODD_WINDOW
      return { window, sets: Object.fromEntries(oddSets.map((k) => [k, s.odd[k].within(first, first + ODD_WINDOW - 1)])) as Record<OddSet, string> }
    })
    const change: AccountChange = {
      delivery: this.delivery,
      slices: [...this.slices.values()],
      moves: this.moves,
      latencies: this.latencyAdded,
      total: {
        storedThrough: s.storedThrough,
        madeAt: s.madeAt,
        acknowledged: s.acknowledged,
        foreign: s.foreign,
        answered: s.answered.toString(),
        known: s.known.toString(),
        ...s.tally,
      },
      odd,
    }
    this.slices = new Map()
    this.dirtyWindows = new Set()
    this.moves = []
    this.latencyAdded = []
    this.changed = false
    return change
  }
}

export interface AccountChange {
  delivery: number
  slices: SliceChange[]
  moves: Move[]
  /** From the device's time to the witness's, ms, of each message that arrived. */
  latencies: number[]
  total: Tally & { storedThrough: number; madeAt: number; acknowledged: number; foreign: number; answered: string; known: string }
  /** Every window of odd ones that changed, as it stands now. */
  odd: { window: number; sets: Record<OddSet, string> }[]
}
