import type { Counts, Verdict } from '~/contract/live'
import { type AccountChange, AccountChanges, SLICE_MS } from './account-changes'
import type { Assurance } from './envelope'
import type { RangeSet } from './ranges'
import { TopicOrder } from './topic-order'
import { emptyStanding, type Standing, verdictOf } from './verdict'

/** Digests of arrived messages remembered a delivery, to tell whether a second copy is the same. */
const RECENT = 1024
/** Messages that ended without having arrived, remembered a delivery, to tell whether one that comes after all is late. */
const ENDED = 5000

export interface Limits {
  /** Seen later than this after it was made: late. Not arrived this long after the acknowledgement: perhaps missing. */
  lateMs: number
  /** The place of a missing message in the outbox is freed this long after its acknowledgement. */
  giveUpMs: number
  /** Most messages kept open at once; beyond it the oldest end as unknown. */
  openMax: number
}

export const defaultLimits: Limits = { lateMs: 30_000, giveUpMs: 600_000, openMax: 500_000 }

/** A message that goes out. */
export interface Sending {
  seq: number
  topic: string
  /** Within what order holds there; absent: its topic. */
  within?: string
  /** Of its payload; see digest.ts. */
  digest: number
  assurance: Assurance
  /** Epoch ms. */
  deviceAt: number
  /** Epoch ms. */
  producedAt: number
  /** How often the wall clock had gone back when it was made. */
  turn: number
  /** When it was made, by the monotonic clock. */
  madeMono: number
}

/** What the witness can say just now; all times by the monotonic clock, ms. */
export interface WitnessView {
  connectedAt: number
  /** All that the other side held for the witness at that moment has come. */
  clearAt: number
  /** Of what was seen, when the newest was sent: the other side hands out in order, so it is through with what was sent before. */
  seenAt: number
  /** The same, of what is only sent too, which nobody lets wait. */
  seenAnyAt: number
  /** Since when it has been sure to be handed what goes to a topic; Infinity: it is not. */
  coveredSince(topic: string): number
}

export type Seen = 'confirmed' | 'late' | 'disordered' | 'doubled' | 'altered' | 'foreign'

/** One copy of a message that the witness saw. */
export interface Sighting {
  seq: number
  /** Empty: it is not told where. */
  topic: string
  /** Null: its payload is not told, nor whether it was altered. */
  digest: number | null
  /** Epoch ms. */
  at: number
  /** The same moment by the monotonic clock. */
  mono: number
  /** Hears once what it turned out to be, now or a little later, and when its message first went out (null: not known any more). */
  counted(how: Seen, sentMono: number | null): void
}

/** How numbers stand, in the text form of multiranges. */
export interface Fates {
  /** A witness says whether they arrived. */
  witnessed: boolean
  known: string
  answered: string
  /** Missing, dropped, rejected, unknown. */
  lost: string[]
  altered: string
}

interface Open extends Sending {
  /** When it first and last went out, monotonic ms. */
  firstSent: number
  lastSent: number
  /** That moment was told by the wall clock of an earlier run, when it was made. */
  firstByWall: boolean
  lastByWall: boolean
  ackedAt: number
  missing: boolean
  overtaken: boolean
  gone: boolean
  order: TopicOrder<Open>
  settled: (seenAt: number | null) => void
}

/**
 * The account of one delivery: pure bookkeeping over what outbox, sender and witness report. Messages are open from when
 * they are sent until they arrived or were given up; only those take memory. A number is told as produced when it is
 * stored: what stands in memory only may go with the process, and nobody was told of it.
 */
export class Account {
  private open = new Map<number, Open>()
  private topics = new Map<string, TopicOrder<Open>>()
  /** By topic those parts of it that keep an order of their own. */
  private readonly parted = new Map<string, Set<string>>()
  private readonly changes: AccountChanges
  /** Copies of messages that were sent by an earlier run and not yet again by this one, in the order in which they came. */
  private early: Sighting[] = []
  private recentSeq: Float64Array | null = null
  private recentDigest: Float64Array | null = null
  private openAcked = 0
  /** Those that ended, or were given up, without having arrived, the latest: when they were made, by the monotonic clock, and their order. */
  private readonly ended = new Map<number, { made: number; order: TopicOrder<Open> }>()
  /** The highest number handed to the wire by this run. */
  private sentNow = 0
  /** What an earlier run stored: it may have been on the wire before. */
  private restoredThrough: number
  /** The last message whose payload came on another topic than it was sent to. */
  elsewhere: { sent: string; seen: string } | null = null
  /** The highest number that this run saw in the outbox. */
  appendedThrough = 0
  /** Numbers up to this one may be given without asking for more. */
  reserved = Number.POSITIVE_INFINITY
  /** Asks for more; called when they are used up. */
  reserve: () => void = () => undefined
  /** The highest number given to a message, stored or not. */
  numberedThrough: number
  sentThrough: number
  /** When the newest message was made, epoch ms, and how often the wall clock had gone back by then. */
  private newest: { at: number; turn: number }

  /** Hears of each message as its last word comes: how long that took, ms; while somebody measures. */
  measured: ((seq: number, ms: number) => void) | null = null

  /** Whether what goes again is kept once there: a copy may come from any of its sendings. */
  keepsOnce = false

  constructor(
    readonly delivery: number,
    readonly standing: Standing = emptyStanding(),
    /** Whether a witness reads the far end; without one nothing is known beyond the acknowledgement. */
    public witnessed = true,
    public limits: Limits = defaultLimits,
    /** Whether copies carry their id; else they are known by topic and payload. */
    public byId = false,
  ) {
    this.changes = new AccountChanges(standing)
    this.numberedThrough = standing.storedThrough
    this.restoredThrough = standing.storedThrough
    this.sentThrough = standing.answered.max ?? 0
    this.newest = { at: standing.madeAt, turn: standing.turns }
  }

  /** The next number for a message that is made at `wall` (epoch ms), and the turn of the clock it falls in. */
  next(wall: number): { seq: number; turn: number } {
    const { newest } = this
    if (Math.floor(wall / SLICE_MS) < Math.floor(newest.at / SLICE_MS)) newest.turn++
    newest.at = wall
    const seq = ++this.numberedThrough
    if (seq > this.reserved) this.reserve()
    return { seq, turn: newest.turn }
  }

  /**
   * Numbers up to `through` were given by a run of which the database knows nothing any more: they are not given again, and
   * nobody can say what became of their messages. Gives how many, counted at `wall` (epoch ms).
   */
  memoryLost(through: number, wall: number): number {
    const s = this.standing
    const first = s.storedThrough + 1
    const count = through - s.storedThrough
    if (count <= 0) return 0
    this.given(through)
    if (Math.floor(wall / SLICE_MS) < Math.floor(this.newest.at / SLICE_MS)) this.newest.turn++
    this.newest.at = wall
    const slice = this.changes.slice(wall, this.newest.turn)
    slice.firstSeq = Math.min(slice.firstSeq ?? first, first)
    slice.produced += count
    slice.unknown += count
    s.tally.unknown += count
    s.storedThrough = through
    s.madeAt = wall
    s.turns = this.newest.turn
    for (const set of ['known', 'answered', 'unknown'] as const) this.changes.markAll(set, first, through)
    return count
  }

  /** Numbers up to this one are given, though not counted yet: what is made from now on has higher ones. */
  given(seq: number): void {
    if (seq > this.numberedThrough) this.numberedThrough = seq
  }

  get changed(): boolean {
    return this.changes.any
  }

  verdict(seq: number): ReturnType<typeof verdictOf> {
    return verdictOf(this.standing, seq)
  }

  /** What is known of the numbers from one on, as multiranges. */
  fates(first: number): Fates {
    const { odd, known, answered, storedThrough } = this.standing
    const within = (set: RangeSet) => set.within(first, storedThrough)
    return {
      witnessed: this.witnessed,
      known: within(known),
      answered: within(answered),
      lost: (['missing', 'dropped', 'rejected', 'unknown'] as const).map((v) => within(odd[v])),
      altered: within(odd.altered),
    }
  }

  /** It is in the outbox for good. Numbers come in order: those passed over went with the memory they were in, and are dropped. */
  stored(seq: number, producedAt: number, turn: number): void {
    while (seq > this.standing.storedThrough + 1) this.dropped(this.standing.storedThrough + 1, producedAt, turn)
    this.appendedThrough = seq
    this.storedNext(seq, producedAt, turn)
  }

  private storedNext(seq: number, producedAt: number, turn: number): void {
    const slice = this.changes.slice(producedAt, turn)
    slice.produced++
    if (slice.firstSeq === null || seq < slice.firstSeq) slice.firstSeq = seq
    const s = this.standing
    if (seq > s.storedThrough) {
      s.storedThrough = seq
      s.madeAt = producedAt
      s.turns = turn
    }
    if (seq <= this.numberedThrough) return
    this.numberedThrough = seq
    this.newest = { at: producedAt, turn }
  }

  private order({ topic, within = topic }: Pick<Sending, 'topic' | 'within'>): TopicOrder<Open> {
    let order = this.topics.get(within)
    if (!order) {
      if (this.topics.size >= 20_000) this.tidy()
      this.topics.set(within, (order = new TopicOrder()))
      // Without ids a copy tells its topic only.
      if (within !== topic && !this.byId) this.parted.set(topic, (this.parted.get(topic) ?? new Set()).add(within))
    }
    return order
  }

  private tidy(): void {
    for (const [within, order] of this.topics) if (order.empty) this.topics.delete(within)
    for (const [topic, parts] of this.parted) {
      for (const within of parts) if (!this.topics.has(within)) parts.delete(within)
      if (parts.size === 0) this.parted.delete(topic)
    }
  }

  /**
   * Handed to the wire now (monotonic ms), for the first time or again; or, with `before`, known to have been by an earlier
   * run. `settled` is called once, when its place in the outbox can be freed, with the moment at which it was seen (monotonic ms).
   */
  sent(m: Sending, now: number, settled: (seenAt: number | null) => void, before = false): void {
    const { seq } = m
    if (seq <= this.restoredThrough || seq <= this.sentNow) this.twice(seq)
    if (seq > this.sentThrough) this.sentThrough = seq
    if (seq > this.sentNow) this.sentNow = seq
    const there = this.open.get(seq)
    if (there) {
      there.lastSent = now
      there.lastByWall = false
      return
    }
    const { odd, known } = this.standing
    const missing = odd.missing.has(seq)
    if (known.has(seq) && !missing) {
      if (!this.byId) this.order(m).remember(seq, m.digest)
      this.remember(seq, m.digest)
      settled(null)
    } else {
      const order = this.order(m)
      // What an earlier run had may have gone out as soon as it was made.
      const firstByWall = before || !this.wentOnce(seq)
      const { topic, digest, assurance, deviceAt, producedAt, turn, madeMono } = m
      const open: Open = {
        seq,
        topic,
        digest,
        assurance,
        deviceAt,
        producedAt,
        turn,
        madeMono,
        firstSent: firstByWall ? m.madeMono : now,
        lastSent: before ? m.madeMono : now,
        firstByWall,
        lastByWall: before,
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

  /** An earlier run stored it: it may have been on the wire before. */
  fromBefore(seq: number): void {
    if (seq > this.restoredThrough) this.restoredThrough = seq
  }

  /** It went out more than once, or may have by an earlier run. */
  twice(seq: number): void {
    this.changes.mark('resent', seq)
  }

  /** Whether it went out at most once, as far as anybody knows: then no second copy is of our making. */
  wentOnce(seq: number): boolean {
    return !this.standing.odd.resent.has(seq)
  }

  /** Whether a copy of it has been counted. */
  hasArrived(seq: number): boolean {
    const { known, odd } = this.standing
    return known.has(seq) && !odd.missing.has(seq) && !odd.dropped.has(seq) && !odd.rejected.has(seq) && !odd.unknown.has(seq)
  }

  private remember(seq: number, digest: number): void {
    this.recentSeq ??= new Float64Array(RECENT)
    this.recentDigest ??= new Float64Array(RECENT)
    this.recentSeq[seq % RECENT] = seq
    this.recentDigest[seq % RECENT] = digest
  }

  /** Ends an open message; `seenAt` monotonic ms. */
  private close(o: Open, seenAt: number | null): void {
    this.open.delete(o.seq)
    if (o.ackedAt > 0 && !o.missing) this.openAcked--
    this.changes.any = true
    o.settled(seenAt)
  }

  /** Gives a verdict to a message that waits or is missing. */
  private give(o: Pick<Open, 'seq' | 'producedAt' | 'turn' | 'missing'>, to: Verdict): void {
    const { tally } = this.standing
    const slice = this.changes.slice(o.producedAt, o.turn)
    if (o.missing) {
      this.changes.unmark('missing', o.seq)
      tally.missing--
      slice.missing--
    }
    this.changes.note('known', o.seq)
    tally[to]++
    slice[to]++
  }

  private end(o: Open, how: 'dropped' | 'rejected' | 'unknown'): void {
    this.give(o, how)
    this.changes.mark(how, o.seq)
    this.letGo(o)
  }

  /** It is open no more, though it did not arrive; should it do so after all, it is known by its payload. */
  private letGo(o: Open): void {
    o.gone = true
    o.order.forget(o)
    this.ended.set(o.seq, { made: o.madeMono, order: o.order })
    if (this.ended.size > ENDED) {
      const [oldest] = this.ended.keys()
      this.ended.delete(oldest!)
    }
    if (!this.byId) o.order.remember(o.seq, o.digest)
    this.close(o, null)
  }

  /** The destination has it (`now` monotonic, ms). */
  acknowledged(seq: number, now: number): void {
    if (this.changes.note('answered', seq)) this.standing.acknowledged++
    this.answered(seq, now)
  }

  /** It is only sent, and nobody says that the destination has it: it does not go out again. */
  leftAlone(seq: number, now: number): void {
    this.changes.note('answered', seq)
    this.answered(seq, now)
  }

  private answered(seq: number, now: number): void {
    this.changes.any = true
    const o = this.open.get(seq)
    if (!o) return
    if (o.ackedAt === 0) {
      o.ackedAt = now
      if (!o.missing) this.openAcked++
    }
    if (this.witnessed) return
    this.measured?.(seq, now - o.madeMono)
    this.end(o, 'unknown')
  }

  /** Refused for good, by the destination or before it went out; the outbox forgets it. */
  refused(seq: number, producedAt: number, turn: number): void {
    this.changes.note('answered', seq)
    const o = this.open.get(seq)
    if (o) this.end(o, 'rejected')
    else this.endUnsent(seq, producedAt, turn, 'rejected')
    if (this.early.length > 0) this.countEarly()
  }

  /** Its place in the outbox had to be freed before the witness could say anything. */
  forgotten(seq: number): void {
    const o = this.open.get(seq)
    if (!o) return
    if (!o.missing) return this.end(o, 'unknown')
    this.letGo(o)
  }

  /**
   * Pushed out of a full outbox before it could be sent, or out of memory before it could be stored: then it counts as
   * produced now, so that its number is never given again. One that went out, or may have by an earlier run, and was never
   * acknowledged, may have arrived: of that nobody can say more until a witness sees it.
   */
  dropped(seq: number, producedAt: number, turn: number): void {
    if (seq > this.standing.storedThrough) this.storedNext(seq, producedAt, turn)
    this.changes.note('answered', seq)
    const o = this.open.get(seq)
    if (o) this.end(o, 'unknown')
    else this.endUnsent(seq, producedAt, turn, this.wentOnce(seq) ? 'dropped' : 'unknown')
    if (this.early.length > 0) this.countEarly()
  }

  private endUnsent(seq: number, producedAt: number, turn: number, how: 'dropped' | 'rejected' | 'unknown'): void {
    if (this.standing.known.has(seq)) return
    this.give({ seq, producedAt, turn, missing: false }, how)
    this.changes.mark(how, seq)
  }

  /**
   * Says that of all numbers without a verdict only `there` are still in the outbox: the others' place is gone (a row that
   * cannot be read, or that somebody removed), and nobody can say any more what became of them. Gives how many.
   */
  resolveGone(there: RangeSet): number {
    let gone = 0
    const { known } = this.standing
    for (let seq = known.through + 1; seq <= this.standing.storedThrough; seq++) if (!known.has(seq) && !there.has(seq) && this.losePlace(seq)) gone++
    if (this.early.length > 0) this.countEarly()
    return gone
  }

  /** The place of these numbers in the outbox can't be read: those without a verdict are unknown. Gives how many. */
  lostPlace(first: number, last: number): number {
    let gone = 0
    for (let seq = first; seq <= last; seq++) if (!this.standing.known.has(seq) && this.losePlace(seq)) gone++
    if (this.early.length > 0) this.countEarly()
    return gone
  }

  private losePlace(seq: number): boolean {
    const o = this.open.get(seq)
    if (o) {
      this.end(o, 'unknown')
      return true
    }
    if (seq > this.standing.storedThrough) this.stored(seq, this.newest.at, this.newest.turn)
    this.changes.note('answered', seq)
    this.changes.note('known', seq)
    this.changes.mark('unknown', seq)
    this.standing.tally.unknown++
    this.changes.moved({ seq, from: 'waiting', to: 'unknown' })
    return true
  }

  /** The witness saw a copy of it. */
  seen(s: Sighting): void {
    if (this.early.length > 0 || !this.count(s)) this.early.push(s)
  }

  /** Copies that wait for their message to go out are forgotten: these come again. */
  forgetEarly(which: (s: Sighting) => boolean): void {
    this.early = this.early.filter((s) => !which(s))
    this.countEarly()
  }

  /** Which message of this delivery a copy without an id is, by its topic and payload; null: none. */
  find(topic: string, digest: number): number | null {
    const found = [topic, ...(this.parted.get(topic) ?? [])].flatMap((within) => this.topics.get(within)?.find(digest) ?? [])
    const onTheWay = found.filter((seq) => this.open.has(seq))
    return onTheWay.length > 0 ? Math.min(...onTheWay) : (found[0] ?? null)
  }

  /** Whether all up to this number has been handed to the wire by this run, or needs not to be. */
  wasSent(seq: number): boolean {
    return seq <= this.sentNow || this.standing.answered.has(seq) || seq < 1
  }

  /** Something came on a topic of this delivery that it never sent; `at` epoch ms. */
  foreign(at: number): void {
    this.standing.foreign++
    this.changes.slice(at, this.newest.turn).foreign++
  }

  private countEarly(): void {
    let n = 0
    while (n < this.early.length && this.count(this.early[n]!)) n++
    this.early.splice(0, n)
  }

  /** False when it can't be counted yet. */
  private count(s: Sighting): boolean {
    const { seq } = s
    if (seq < 1 || seq > this.numberedThrough) {
      this.foreign(s.at)
      s.counted('foreign', null)
      return true
    }
    const o = this.open.get(seq)
    if (o) {
      // Of one that went out before, by an earlier run perhaps, nobody can say which of its sendings this copy comes from.
      s.counted(this.arrive(o, s), this.wentOnce(seq) && !o.firstByWall ? o.firstSent : null)
      return true
    }
    // It goes out again, and only then can the copy be compared with it.
    if (seq > this.sentNow && !this.standing.answered.has(seq)) return false
    if (!this.standing.known.has(seq)) return false
    s.counted(this.again(s), null)
    return true
  }

  /** Whether a payload on a topic that nobody writes to is that of an open message: then topics are changed on the way, and that is noted. */
  strays(topic: string, digest: number): boolean {
    for (const o of this.open.values()) {
      if (o.digest !== digest || o.topic === topic) continue
      this.elsewhere = { sent: o.topic, seen: topic }
      return true
    }
    return false
  }

  /** The first copy of an open message. */
  private arrive(o: Open, s: Sighting): Seen {
    const { seq, order } = o
    const late = s.mono - o.madeMono > this.limits.lateMs
    const elsewhere = s.topic !== '' && s.topic !== o.topic
    const altered = (s.digest !== null && s.digest !== o.digest) || elsewhere
    if (elsewhere && s.digest === o.digest) this.elsewhere = { sent: o.topic, seen: s.topic }
    const disordered = o.overtaken
    order.arrived(o, (passed) => this.changes.mark('overtaken', passed.seq))
    if (disordered) this.changes.unmark('overtaken', seq)
    const verdict = altered ? 'altered' : disordered ? 'disordered' : late ? 'late' : 'confirmed'
    this.give(o, verdict)
    if (late) this.changes.mark('late', seq)
    if (disordered) this.changes.mark('disordered', seq)
    if (altered) this.changes.mark('altered', seq)
    if (!this.byId) order.remember(seq, o.digest)
    this.remember(seq, o.digest)
    this.changes.latency(s.at - o.deviceAt)
    this.measured?.(seq, s.at - o.deviceAt)
    this.close(o, s.mono)
    return verdict
  }

  /** A copy of a message whose verdict was given: a second one, or the first after it had been given up. */
  private again(s: Sighting): Seen {
    const { seq } = s
    const { odd, tally } = this.standing
    const from = this.verdict(seq) as Verdict
    if (from === 'missing' || from === 'dropped' || from === 'rejected' || from === 'unknown') {
      this.changes.unmark(from, seq)
      const ended = this.ended.get(seq)
      if (from === 'missing' || ended === undefined || s.mono - ended.made > this.limits.lateMs) this.changes.mark('late', seq)
      const order = ended?.order ?? this.topics.get(s.topic)
      order?.passedBy(seq, (passed) => this.changes.mark('overtaken', passed.seq))
      if (odd.overtaken.has(seq)) {
        this.changes.unmark('overtaken', seq)
        this.changes.mark('disordered', seq)
      }
    } else this.changes.mark('doubled', seq)
    const other = s.digest !== null && this.recentDigest?.[seq % RECENT] !== s.digest
    if (other && this.recentSeq?.[seq % RECENT] === seq) this.changes.mark('altered', seq)
    const to = this.verdict(seq) as Seen & Verdict
    if (to !== from) {
      tally[from]--
      tally[to]++
      this.changes.moved({ seq, from, to })
    }
    return to
  }

  /**
   * Says which open messages are missing (`now` monotonic, ms). `witness` is null while it is away: then nobody can say. A
   * message is missing only when its time is over, and when the other side has shown since that it holds nothing of that time
   * for the witness any more. What went out before the witness was sure to be handed it ends as unknown instead. Gives how
   * many wait only for the witness to show that.
   */
  judge(now: number, witness: WitnessView | null): number {
    if (!this.witnessed || witness === null || this.openAcked === 0) {
      if (witness !== null) this.freeGivenUp(now)
      return 0
    }
    let unproven = 0
    for (const o of this.open.values()) {
      if (o.ackedAt === 0) continue
      if (o.missing) {
        this.giveUp(o, now)
        continue
      }
      const limit = o.ackedAt + this.limits.lateMs
      if (now <= limit) continue
      if (Math.max(witness.clearAt, o.assurance === 'sent' ? witness.seenAnyAt : witness.seenAt) <= limit) {
        unproven++
        continue
      }
      const covered = Math.max(witness.coveredSince(o.topic), o.assurance === 'sent' ? witness.connectedAt : Number.NEGATIVE_INFINITY)
      // Where what goes again is kept once, its copy may be that of the first sending.
      if ((this.keepsOnce || o.assurance === 'once' ? this.sure(o.firstSent, o.firstByWall, o) : this.sure(o.lastSent, o.lastByWall, o)) < covered) {
        this.end(o, 'unknown')
        continue
      }
      this.give(o, 'missing')
      this.changes.mark('missing', o.seq)
      o.missing = true
      this.openAcked--
      this.giveUp(o, now)
    }
    return unproven
  }

  /** The earliest moment that this can have been: a wall clock that was set back since tells nothing, one that was not is right to a slice. */
  private sure(at: number, byWall: boolean, o: Open): number {
    if (!byWall) return at
    return o.turn === this.newest.turn ? at - SLICE_MS : Number.NEGATIVE_INFINITY
  }

  private freeGivenUp(now: number): void {
    if (this.standing.tally.missing > 0) for (const o of this.open.values()) if (o.missing) this.giveUp(o, now)
  }

  private giveUp(o: Open, now: number): void {
    if (o.ackedAt === 0 || now - o.ackedAt <= this.limits.giveUpMs) return
    this.letGo(o)
  }

  /** How its messages stand now; while the witness is `away`, what was acknowledged and not seen is unknown. */
  counts(away = false): Counts {
    const s = this.standing
    const t = s.tally
    const arrived = t.confirmed + t.late + t.disordered + t.doubled + t.altered
    const hidden = away ? this.openAcked : 0
    return {
      produced: s.storedThrough,
      stored: s.storedThrough,
      sent: Math.min(this.sentThrough, s.storedThrough),
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
    return this.changes.take(this.delivery)
  }
}
