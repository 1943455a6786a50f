import type { Lane } from '~/contract/destination'
import type { Terms } from '~/contract/destinations/terms'
import { type Failure, fail } from '~/contract/failure'
import type { Condition } from '~/contract/live'
import { kindOf } from '~/core/address/kinds'
import type { Account } from '~/core/delivery/account'
import type { DeliveryStore, StoreTrouble } from '~/core/delivery/delivery-store'
import { digest } from '~/core/delivery/digest'
import { type Envelope, messageId } from '~/core/delivery/envelope'
import { type Clock, sleep, within } from '../clock/clock'
import { Retrying } from '../clock/retrying'
import { failureOf } from '../failure'
import type { Ledger } from '../ledger/ledger'
import { Rate } from '../live/rate'
import { Outbox } from '../outbox/outbox'
import type { Packing } from '../outbox/packing'
import type { Item } from '../outbox/segment-state'
import { TopicIndex } from '../witness/topics'
import { Witness } from '../witness/witness'
import type { Answer, DestinationConnection, DestinationDriver, DestinationTarget, Remembered } from './driver'
import type { Position } from './far-end'
import { Flaps } from './flaps'
import { Resting } from './resting'
import type { NodeSession } from './session'
import { Suspicion } from './suspicion'

/** How long sending waits for the witness to listen, so that it sees the first messages, ms. */
const WITNESS_HEAD_START_MS = 5000
/** How long sending pauses at most for messages under way, and then while the witness changes what it listens to, ms. */
const HOLD_MS = 3000
const LISTEN_MS = 30_000
/** How long messages under way are waited for before a connection is changed, ms. */
const FINISH_MS = 10_000
/** How long a link may take to answer before a suspected message is tried on it, ms. */
const HEARD_MS = 6000
/** A cut way takes the sender's link and the witness's within this, ms. */
const TOGETHER_MS = 250
/** A connection that stood so long was a success, though nothing was sent on it, ms. */
const STOOD_MS = 10_000
/** First and longest wait after the destination said "not now", ms. */
const LATER_MS = { first: 1000, most: 60_000, asked: 3_600_000 }
type Later = Extract<Answer, { kind: 'later' }>
/** Refused messages are told again so often at most, ms. */
const REFUSALS_TOLD_MS = 60_000
/** It is looked so often whether filters can go that only older messages needed, ms. */
const RELEASE_LOOK_MS = 5000
/** The right to send is looked at again so often while it is in doubt, ms. */
const LEASE_LOOK_MS = 200

export type Step = 'stored' | 'sent' | 'acknowledged' | 'confirmed'
type Severity = 'good' | 'note' | 'warning' | 'trouble'

/** So many refused one after the other, over so long (ms), without one that was taken: it takes nothing. */
const NOTHING_TAKEN = 3
const NOTHING_TAKEN_MS = 5000

/** A message that went aside: refused for good, or one on which the link was lost again and again. */
export interface Aside {
  destinationId: string
  envelope: Envelope
  failure: Failure
}

/** What is noted of one connection. */
interface Figures {
  sent: number
  /** Answers of the destination: what is only sent has none when the link is lost. */
  answered: number
  /** It was given up since a message was not acknowledged in time. */
  silent: boolean
  /** It was ended by this side, for a change. */
  asked: boolean
  /** What was left alone at its end, and when that went out. */
  left: Map<Item, number>
  /** Since when nothing is under way, or was before what is; ms. */
  idleSince: number
}

export interface DestinationContext {
  clock: Clock
  store: DeliveryStore
  packing: Packing
  installation: string
  ledger: Ledger
  driver: DestinationDriver
  event(d: Lane, severity: Severity, code: string, message: string, hint: string): void
  /** Opens its credentials, anew for each try. */
  target(d: Lane): Promise<DestinationTarget>
  /** Whether this engine may send now: it may be that another one has taken over. */
  maySend(): boolean
  /** Whether it may keep its connections: else another engine may need their names. */
  mayHold(): boolean
  fenced(): void
  storeTrouble(who: string, t: { kind: StoreTrouble; words: string; lost: number } | null): void
  troubleOf(e: unknown): StoreTrouble
  /** Hears of every step of a message that somebody watches. */
  step(step: Step, delivery: number, seq: number, at: number): void
  putAside(a: Aside): void
  /** Deliveries that go out on this lane. */
  deliveriesOf(lane: string): readonly number[]
  /** Whether a delivery is still there: the outbox is only sent for those. */
  isThere(delivery: number): boolean
}

const limitsOf = ({ outboxMb, outboxHours }: Terms) => ({
  bytes: outboxMb * 1_000_000,
  ageMs: outboxHours > 0 ? outboxHours * 3_600_000 : Number.POSITIVE_INFINITY,
})

/** Keeps one destination connected and its outbox flowing, with a witness at its far end. */
export class DestinationSupervisor {
  readonly outbox: Outbox
  witness: Witness | null = null
  /** Who writes to which topic there. */
  readonly topics = new TopicIndex()
  /** The version of its settings that is taken up, or about to be. */
  wantedVersion: number
  private status: Pick<Condition, 'state' | 'reason' | 'hint' | 'since'>
  private readonly loading: Retrying
  private sending: Retrying | null = null
  private preparing: Retrying | null = null
  /** The witness before this one may have counted what is not written. */
  private lastUnwritten = false
  private loaded = false
  private stopped = false
  private readonly rate = new Rate()
  private last: number | null = null
  /** Messages on the wire now, the oldest first, and since when (monotonic ms). */
  private underWay = new Map<Item, number>()
  private held = false
  /** No new message goes out; what is under way is waited for. */
  private finishing = false
  private laterUntil = 0
  private laterWait = LATER_MS.first
  private laterTold = false
  private readonly resting = new Resting()
  /** What was refused since something was taken last. */
  private refused: { failure: Failure; count: number; since: number; sinceMono: number } | null = null
  private refusals = { at: Number.NEGATIVE_INFINITY, more: 0 }
  /** What the far end remembers of this sender and witness is to be forgotten with the next connection. */
  private anew = { sender: false, witness: false }
  private readonly suspicion: Suspicion
  private readonly flaps = new Flaps()
  private lossTold = false
  private readonly remembered: Remembered = new Map()
  /** The highest position that ever went out in this run. */
  private sentOrdinal = -1
  private session: NodeSession | null = null
  /** The number of its next birth: a try that the other side never hears of uses none up. */
  private birth: { number: number; used: boolean } | null = null
  private witnessTarget: DestinationTarget | null = null
  private senderTarget: DestinationTarget | null = null
  private filters: readonly string[] = []
  /** Ends the connection so that it is made anew. */
  private end: () => void = () => undefined
  private connection: DestinationConnection | null = null
  private readonly droppedNow = { full: 0, old: 0 }
  /** What each delivery had numbered when filters were exchanged: with all that judged the older filters may go. */
  private marks: Map<number, number> | null = null
  private readonly stopReleasing: () => void

  constructor(
    public destination: Lane,
    private readonly ctx: DestinationContext,
  ) {
    const { clock, store, packing } = ctx
    this.wantedVersion = destination.version
    this.suspicion = new Suspicion((e) => ctx.driver.manner(e))
    this.status = { state: 'starting', reason: 'reads what waits in the outbox', hint: '', since: clock.wall() }
    this.loading = new Retrying(clock, { firstMs: 500, mostMs: 5000 })
    this.outbox = new Outbox({
      store,
      clock,
      packing,
      destinationId: destination.id,
      limits: limitsOf(destination.settings),
      troubleOf: ctx.troubleOf,
      hooks: this.outboxHooks(),
    })
    this.rules()
    this.stopReleasing = clock.every(RELEASE_LOOK_MS, () => this.releaseFilters())
  }

  private event(severity: Severity, code: string, message: string, hint = ''): void {
    this.ctx.event(this.destination, severity, code, message, hint)
  }

  private outboxHooks() {
    const { ledger, clock } = this.ctx
    return {
      stored: (e: Envelope) => {
        ledger.account(e.delivery).stored(e.seq, e.producedAt, e.turn)
        ledger.producedRate.add(1, clock.mono())
        this.ctx.step('stored', e.delivery, e.seq, clock.wall())
      },
      dropped: (e: Envelope, acknowledged: boolean, why: 'full' | 'old') => {
        const account = ledger.account(e.delivery)
        if (acknowledged) account.forgotten(e.seq)
        else {
          account.dropped(e.seq, e.producedAt, e.turn)
          this.noteDrop(why)
        }
      },
      lost: (run: { delivery: number; first: number; last: number; producedAt: number; turn: number }) => {
        const account = ledger.account(run.delivery)
        for (let seq = run.first; seq <= run.last; seq++) account.dropped(seq, run.producedAt, run.turn)
      },
      gone: (delivery: number, first: number, last: number, why: string) => {
        const there = ledger.account(delivery)
        const n = there.lostPlace(first, last)
        if (n > 0)
          this.event('trouble', 'outbox.damaged', `${n} stored messages can't be read back: ${why}`, 'Their fate is unknown now; look at the disk')
      },
      trouble: (t: { kind: StoreTrouble; words: string; lost: number } | null) => this.ctx.storeTrouble(this.destination.id, t),
      fenced: () => this.ctx.fenced(),
    }
  }

  private noteDrop(why: 'full' | 'old'): void {
    if (this.droppedNow[why]++ > 0) return
    this.ctx.clock.after(1000, () => {
      const n = this.droppedNow[why]
      this.droppedNow[why] = 0
      const words = n === 1 ? '1 message dropped' : `${n} messages dropped`
      if (why === 'full')
        this.event('trouble', 'outbox.full', `${words}, the oldest first: the outbox is full`, 'Give it more room, or bring the link back')
      else {
        const { outboxHours } = this.destination.settings
        this.event('trouble', 'outbox.old', `${words}: waited for more than ${outboxHours} h`, 'Let them wait longer, or bring the link back')
      }
    })
  }

  /** By which rules its messages are judged. */
  private rules(): void {
    const { witness, lateS } = this.destination.settings
    const byId = this.ctx.driver.carriesId(this.destination.settings)
    for (const d of this.ctx.deliveriesOf(this.destination.id))
      this.ctx.ledger.watch(d, { destinationId: this.destination.id, witnessed: witness, lateMs: lateS * 1000, byId })
  }

  /** Begins, as soon as what an earlier run left can be read; what is offered meanwhile waits. */
  start(filters: readonly string[]): void {
    this.filters = filters
    this.ctx.ledger.attach(this.outbox, null)
    this.loading.start(
      async () => {
        await this.load()
        this.ctx.storeTrouble(`${this.destination.id} load`, null)
        this.loaded = true
        await this.begin()
        void this.loading.stop()
        return 'wait'
      },
      (e) => {
        const kind = this.ctx.troubleOf(e)
        const f = failureOf(e, 'destination')
        // What is wrong with this outbox alone is no trouble of the database.
        if (kind !== 'failed') this.ctx.storeTrouble(`${this.destination.id} load`, { kind, words: f.message, lost: 0 })
        else if (this.loading.failures === 0) this.event('trouble', f.code, `its outbox cannot be read: ${f.message}`, f.hint)
        this.set('trouble', `its outbox cannot be read: ${f.message}`, 'Embrik tries again; what comes waits in memory')
      },
    )
  }

  /** Takes over what an earlier run left. */
  private async load(): Promise<void> {
    const { ledger, clock } = this.ctx
    const there = await this.outbox.load((item, uncounted, acknowledged) => {
      const e = item.envelope
      const account = ledger.account(e.delivery)
      account.fromBefore(e.seq)
      // What comes back of it has an owner, before it is sent again.
      this.topics.add(e.topic, account)
      const { answered } = account.standing
      const done = acknowledged || answered.has(e.seq)
      if (uncounted) account.stored(e.seq, e.producedAt, e.turn)
      // Whether that run sent it again is written only with its next flush, and it may not have come to that.
      if (!done && this.outbox.inDoubt(item.segment.ordinal + item.index)) account.twice(e.seq)
      // What went out before another that was answered has been on the wire too.
      if (done || e.seq < (answered.max ?? 0)) this.note(account, item, true)
      if (done) account.acknowledged(e.seq, clock.mono())
      return done
    })
    const deliveries = this.ctx.deliveriesOf(this.destination.id)
    const gone = ledger.resolveGone(deliveries, there)
    const lost = ledger.memoryLost(deliveries)
    // The far end knows more of us than we do: what it remembers fits nothing here.
    this.anew = { sender: ledger.older, witness: ledger.older }
    if (lost > 0) this.event('warning', 'outbox.older', `${lost} messages were sent or given numbers since the copy of the database: unknown`)
    if (gone > 0)
      this.event('warning', 'outbox.gone', `${gone} messages without a verdict are not in the outbox any more: unknown`, 'Was the database restored?')
  }

  private async begin(): Promise<void> {
    if (this.stopped) return
    // Filters of an earlier run stay as long as what that run stored may come under them.
    this.marks = this.numbered()
    await this.beginWitness()
    this.startSending()
  }

  /** Begins to read the far end where the last one was; what it needs to begin may be away, and is asked for again then. */
  private beginWitness(): Promise<void> {
    void this.preparing?.stop()
    const preparing = new Retrying(this.ctx.clock, { firstMs: 500, mostMs: 10_000 })
    this.preparing = preparing
    return new Promise((begun) => {
      preparing.start(
        async () => {
          // What the last one counted is written before the next one reads where it was: else it comes again, and counts again.
          if (this.lastUnwritten) await this.writeLast()
          const position = this.anew.witness ? 'forget' : await this.ctx.store.loadPosition(this.destination.id)
          // Another beginning may have taken its place meanwhile: one witness is enough.
          if (this.preparing === preparing) await this.startWitness(position)
          begun()
          void preparing.stop()
          return 'wait'
        },
        (e) => {
          const f = failureOf(e, 'witness')
          if (preparing.failures === 0) this.event('trouble', f.code, `witness: ${f.message}`, f.hint)
          // Sending goes on meanwhile: what the witness could not see is unknown, not lost.
          begun()
        },
      )
    })
  }

  /** The far end has forgotten what it knew of the one; when of both, all is told of what the database has forgotten. */
  private begunAnew(of: 'sender' | 'witness'): void {
    if (!this.anew[of]) return
    this.anew[of] = false
    if (!this.anew.sender && !this.anew.witness) this.ctx.ledger.begunAnew(this.ctx.deliveriesOf(this.destination.id))
  }

  private async startWitness(position: Position): Promise<void> {
    const { settings, enabled } = this.destination
    const { clock, driver, ledger, installation } = this.ctx
    if (!settings.witness) this.begunAnew('witness')
    if (!settings.witness || !enabled || this.stopped) return this.ctx.ledger.attach(this.outbox, null)
    const target = await this.ctx.target(this.destination)
    if (this.stopped) return
    this.witnessTarget = target
    this.witness = new Witness({
      clock,
      farEnd: (sink) => driver.farEnd(target, sink, clock, this.remembered),
      retryMs: settings.retryMs,
      installation,
      byId: driver.carriesId(settings),
      ledger,
      topics: this.topics,
      mayListen: () => this.ctx.mayHold(),
      hooks: {
        event: (severity, code, message, hint) => this.event(severity, code, `witness: ${message}`, hint),
        connected: () => this.begunAnew('witness'),
        confirmed: (delivery, seq, at) => this.ctx.step('confirmed', delivery, seq, at),
      },
    })
    ledger.attach(this.outbox, this.witness)
    this.witness.start(position, this.filters)
  }

  private startSending(): void {
    const { enabled, settings } = this.destination
    if (!enabled || this.stopped) {
      this.set('off', 'switched off; the outbox holds what comes')
      return
    }
    this.set('starting', 'connecting')
    this.sending = new Retrying(this.ctx.clock, { firstMs: settings.retryMs, mostMs: settings.retryMs * 8 })
    this.sending.start(
      () => this.send(),
      (e) => this.lost(failureOf(e, 'destination')),
    )
  }

  /** Opens the message in its account. */
  private note(account: Account, item: Item, before = false): void {
    const e = item.envelope
    this.topics.add(e.topic, account)
    const { seq, topic, assurance, deviceAt, producedAt, turn, madeMono } = e
    const { driver } = this.ctx
    const within = driver.within(e)
    const sum = driver.digest?.(e) ?? digest(typeof e.payload === 'string' ? Buffer.from(e.payload) : e.payload)
    const m = { seq, topic, within, digest: sum, assurance, deviceAt, producedAt, turn, madeMono }
    account.sent(m, this.ctx.clock.mono(), () => this.outbox.settled(item), before)
  }

  /** Whether the other side says that it has a message. */
  get acknowledges(): boolean {
    return kindOf(this.destination).lastWord === 'acknowledged'
  }

  present(): Condition {
    const now = this.ctx.clock.mono()
    return { ...(this.takesNothing(now) ?? this.status), rate: this.rate.perSecond(now), last: this.last }
  }

  /** A link that holds and takes nothing is no running one: all that goes out is refused. */
  private takesNothing(now: number): Pick<Condition, 'state' | 'reason' | 'hint' | 'since'> | null {
    const { refused, status } = this
    if (status.state !== 'running' || refused === null || refused.count < NOTHING_TAKEN || now - refused.sinceMono < NOTHING_TAKEN_MS) return null
    const { failure, count, since } = refused
    return { state: 'trouble', reason: `takes nothing, ${count} messages went aside: ${failure.message}`, hint: failure.hint, since }
  }

  private set(state: Condition['state'], reason: string, hint = ''): void {
    this.status = { state, reason, hint, since: this.ctx.clock.wall() }
  }

  private lost(failure: Failure): void {
    if (this.stopped) return
    this.set('trouble', failure.message, failure.hint)
    if (this.lossTold) return
    const told = this.flaps.lost(this.ctx.clock.mono())
    if (!told) return
    this.lossTold = true
    const more = told.more > 0 ? ` (and ${told.more} times more since it was last told)` : ''
    this.event('trouble', failure.code, failure.message + more, failure.hint)
  }

  /** One connection, from its beginning to its end. */
  private async send(): Promise<'again' | 'wait'> {
    const { clock, driver } = this.ctx
    const { settings } = this.destination
    const retrying = this.sending!
    if (!this.ctx.maySend()) {
      this.set('trouble', mayNotSend.message, mayNotSend.hint)
      await sleep(clock, LEASE_LOOK_MS)
      return 'again'
    }
    if (this.nobodySpeaks()) {
      this.set('off', 'its node is not live; what waits goes out once it is')
      while (this.nobodySpeaks() && !this.stopped && !retrying.stopped) await this.outbox.woken()
      return 'again'
    }
    const target = await this.ctx.target(this.destination)
    this.senderTarget = target
    let down: Failure | null = null
    const over = () => this.stopped || retrying.stopped || down !== null
    const session = this.session && (await this.speaking(this.session))
    const connection = await driver.open(target, {
      clock,
      remembered: this.remembered,
      anew: this.anew.sender,
      session,
      over: () => over() || !this.ctx.mayHold() || session?.of.identity !== this.session?.identity,
      sink: {
        down: (failure) => {
          down ??= failure
          this.outbox.wake()
        },
        ready: () => this.outbox.wake(),
        waits: (failure) => this.lost(failure),
        durable: (then) => this.ctx.ledger.afterFlush(then, undefined),
        wall: () => clock.wall(),
        mayGoOut: (ordinal) => this.outbox.mayGoOut(ordinal),
        doneLately: (n) => this.outbox.doneLately(n),
      },
    })
    this.connection = connection
    this.begunAnew('sender')
    const began = clock.mono()
    const figures: Figures = { sent: 0, answered: 0, silent: false, asked: false, left: new Map(), idleSince: clock.mono() }
    try {
      this.end = () => {
        figures.asked ||= down === null
        down ??= anew
        this.outbox.wake()
      }
      // The destination is there: the witness can be too, and should be before the first message.
      this.witness?.hurry()
      await this.witness?.ready(WITNESS_HEAD_START_MS)
      // It may be meant to speak for somebody else since it began to connect.
      if (session?.of.identity !== this.session?.identity) this.end()
      this.isUp(target, retrying.failures)
      this.outbox.rewind()
      this.outbox.eager = true
      this.refused = null
      const overdue = clock.every(500, () => {
        // Another engine may begin soon, under the same name.
        if (!this.ctx.mayHold()) {
          this.end()
          return
        }
        const [oldest] = this.underWay.values()
        if (oldest === undefined || connection.keepsTime || clock.mono() - oldest < settings.ackS * 1000) return
        figures.silent ||= down === null
        down ??= unacknowledged(settings.ackS)
        this.outbox.wake()
      })
      try {
        await this.pump(connection, over, figures)
      } finally {
        overdue()
      }
    } finally {
      this.outbox.eager = false
      this.end = () => undefined
      this.connection = null
      connection.close()
      this.underWay = new Map()
      this.suspicion.ended(figures.sent, figures.answered, this.sentOrdinal, figures.silent)
    }
    if (clock.mono() - began > STOOD_MS) retrying.succeeded()
    if (down === anew) return 'again'
    if (down !== null) this.lost(down)
    return 'wait'
  }

  /** A node's own connection is only there while somebody speaks on it: without a birth before them its messages tell receivers nothing. */
  private nobodySpeaks(): boolean {
    return this.destination.node !== '' && this.session === null
  }

  private async speaking(of: NodeSession) {
    const birth = this.birth?.used === false ? this.birth : { number: await this.ctx.store.nextBirth(this.destination.id), used: false }
    this.birth = birth
    return { of, number: birth.number, used: () => void (birth.used = true) }
  }

  private isUp(target: DestinationTarget, failures: number): void {
    const { waiting } = this.outbox
    if (failures === 0 || this.lossTold)
      this.event(
        'good',
        'destination.up',
        failures > 0
          ? `up again after ${failures} ${failures === 1 ? 'try' : 'tries'}; ${waiting} messages waiting`
          : `up; ${waiting} messages waiting`,
      )
    this.lossTold = false
    this.tellRunning(target)
  }

  private tellRunning(target: DestinationTarget): void {
    this.set('running', this.ctx.driver.protection(target))
  }

  /** Sends in order until told to stop, with at most a window of messages under way. */
  private async pump(connection: DestinationConnection, over: () => boolean, figures: Figures): Promise<void> {
    const { clock, ledger } = this.ctx
    const underWay = new Map<Item, number>()
    this.underWay = underWay
    this.resting.again()
    figures.idleSince = clock.mono()
    if (this.suspicion.careful && !(await this.control(connection, over))) return
    if (this.suspicion.wary && !this.suspicion.careful) this.goesSlowly()
    const blocked = (item: Item) => {
      const window = this.laterTold ? 1 : Math.min(this.suspicion.most, connection.window)
      if (underWay.size >= window) connection.hurry?.(false)
      return (
        this.held || this.finishing || underWay.size >= window || !this.mayGo() || !connection.ready(item.segment.ordinal + item.index, item.envelope)
      )
    }
    while (!over()) {
      if (this.laterUntil > 0 && !(await this.waitLater(over))) continue
      if (this.resting.due(clock.mono()) && !(await this.takeUp(over))) continue
      const item = this.outbox.next()
      if (!item) {
        if (underWay.size === 0 && this.resting.through(clock.mono())) this.rested()
        if (underWay.size === 0 && this.resting.none) this.trusts()
        await this.outbox.more()
        continue
      }
      while (!over() && this.laterUntil === 0 && blocked(item)) await this.outbox.woken()
      if (over()) break
      if (this.laterUntil > 0) continue
      const e = item.envelope
      if (this.resting.rests(e.topic, clock.mono())) {
        this.resting.pass(e.topic)
        while (!over() && this.resting.full && !this.resting.due(clock.mono())) await this.outbox.woken()
        continue
      }
      if (!this.ctx.isThere(e.delivery)) {
        // Its publication is no more: nobody waits for it.
        this.outbox.acknowledged(item)
        this.outbox.settled(item)
        continue
      }
      const m = {
        envelope: e,
        id: messageId(this.ctx.installation, e.delivery, e.seq),
        ordinal: item.segment.ordinal + item.index,
        again: item.segment.ordinal + item.index <= this.sentOrdinal,
        inDoubt: this.outbox.inDoubt(item.segment.ordinal + item.index),
        alone: this.suspicion.careful || this.suspicion.suspects(item),
      }
      const unfit = connection.unfit(m) ?? (this.suspicion.barred(item, clock.mono()) ? barredFailure(e, this.ctx.driver) : null)
      if (unfit) {
        this.refuse(item, unfit)
        continue
      }
      const alone = this.suspicion.suspects(item)
      if (alone && !(await this.quiet(connection, underWay, over))) break
      this.note(ledger.account(e.delivery), item)
      this.ctx.step('sent', e.delivery, e.seq, clock.wall())
      underWay.set(item, clock.mono())
      figures.sent++
      if (m.ordinal > this.sentOrdinal) this.sentOrdinal = m.ordinal
      connection.send(m, (answer) => {
        if (this.underWay !== underWay && answer.kind !== 'left') return
        if (answer.kind === 'left') figures.left.set(item, underWay.get(item) ?? clock.mono())
        else figures.answered++
        underWay.delete(item)
        if (underWay.size === 0) figures.idleSince = clock.mono()
        this.answered(item, answer)
        if (underWay.size === 0 || underWay.size === connection.window - 1) this.outbox.wake()
      })
      while (alone && underWay.size > 0 && !over()) await this.outbox.woken()
    }
    await this.accuse(underWay, figures)
  }

  /** The connection ended with messages under way: was it for one that was alone on it? */
  private async accuse(underWay: ReadonlyMap<Item, number>, { left, idleSince, silent, asked }: Figures): Promise<void> {
    const there = new Map([...underWay, ...left])
    const [first, ...others] = there
    if (!first || this.stopped || this.finishing || silent || asked) return
    this.suspicion.lostWith(there.keys())
    const [item, since] = first
    const now = this.ctx.clock.mono()
    if (others.length > 0 || now - since >= this.destination.settings.ackS * 1000) return
    if (!(this.suspicion.careful || this.suspicion.suspects(item)) || !this.suspicion.tells(since - idleSince, now - since)) return
    // Where the way there is cut, the witness's link is cut too.
    await sleep(this.ctx.clock, TOGETHER_MS)
    if (this.stopped || this.finishing) return
    if (!this.suspicion.strike(item, now, now - since, this.witness?.lostSince(now - TOGETHER_MS) ?? false)) return
    this.sending?.succeeded()
    // What is only sent does not go out again: it is what follows that goes aside.
    if (!left.has(item)) this.refuse(item, hangsUp(item.envelope, this.ctx.driver))
  }

  /** All went out that a link was lost on: no message is tried alone any more. */
  private trusts(): void {
    if (!this.suspicion.wary) return
    this.suspicion.passed()
    if (this.senderTarget) this.tellRunning(this.senderTarget)
  }

  /** Nothing is under way, and the link was seen to hold just now; false: it is over. */
  private async quiet(connection: DestinationConnection, underWay: ReadonlyMap<Item, number>, over: () => boolean): Promise<boolean> {
    while (underWay.size > 0 && !over()) await this.outbox.woken()
    return !over() && this.holds(connection, over)
  }

  /** Whether the link holds while nothing is sent on it. */
  private async control(connection: DestinationConnection, over: () => boolean): Promise<boolean> {
    this.set('trouble', 'tries messages one by one: the link was lost on one of them', 'The one at fault goes aside, the others go on')
    return this.holds(connection, over)
  }

  private goesSlowly(): void {
    const { ackS } = this.destination.settings
    this.set('trouble', `begins again with one message: of many, none was acknowledged within ${ackS} s`, 'The link or the other side is slow')
  }

  /** Whether the link answers, and is then not lost while nothing is sent on it. */
  private async holds(connection: DestinationConnection, over: () => boolean): Promise<boolean> {
    const { clock } = this.ctx
    await within(clock, HEARD_MS, connection.heard())
    const end = clock.mono() + this.suspicion.holdMs
    while (!over() && clock.mono() < end) await sleep(clock, 50)
    if (over() && !this.stopped && !this.finishing) this.suspicion.lostIdle()
    return !over()
  }

  private mayGo(): boolean {
    if (this.ctx.maySend()) return true
    this.ctx.clock.after(LEASE_LOOK_MS, () => this.outbox.wake())
    return false
  }

  /** After "not now": waits for what is under way and for its time, then begins again at the oldest. */
  private async waitLater(over: () => boolean): Promise<boolean> {
    const { clock } = this.ctx
    while (!over() && (this.underWay.size > 0 || clock.mono() < this.laterUntil)) await within(clock, 100, this.outbox.woken())
    if (over()) return false
    this.laterUntil = 0
    this.outbox.rewind()
    return true
  }

  private answered(item: Item, answer: Answer): void {
    const { ledger, clock, step } = this.ctx
    const e = item.envelope
    const account = ledger.account(e.delivery)
    const now = clock.mono()
    if (answer.kind === 'left') {
      this.outbox.acknowledged(item)
      return account.leftAlone(e.seq, now)
    }
    const { wary, careful } = this.suspicion
    this.suspicion.answered(item)
    // An answer in time ends a silence; what was lost with a link is tried to the last.
    if (wary && !(careful && this.suspicion.careful) && this.status.state === 'trouble' && this.senderTarget) this.tellRunning(this.senderTarget)
    if (answer.kind === 'later') return answer.place ? this.rest(e.topic, answer) : this.later(answer)
    if (answer.kind === 'refused') return this.refuse(item, answer.failure)
    this.outbox.acknowledged(item)
    this.sending?.succeeded()
    this.last = clock.wall()
    this.refused = null
    this.rate.add(1, now)
    if (answer.kind === 'sent') account.leftAlone(e.seq, now)
    else {
      account.acknowledged(e.seq, now)
      ledger.ackedRate.add(1, now)
      step('acknowledged', e.delivery, e.seq, this.last)
    }
    if (this.resting.took(e.topic) && this.resting.none) this.rested()
    if (!this.laterTold) return
    this.laterTold = false
    this.laterWait = LATER_MS.first
    if (this.senderTarget) this.tellRunning(this.senderTarget)
    this.event('good', 'destination.takes', 'takes messages again')
  }

  /** Not now, for one place: what goes there is passed by until it has rested. */
  private rest(place: string, { failure, waitMs = 0 }: Later): void {
    const { clock } = this.ctx
    const first = this.resting.none
    const ms = this.resting.rest(place, clock.mono(), Math.min(waitMs, LATER_MS.asked))
    this.resting.pass(place)
    if (ms === 0) return
    clock.after(ms, () => this.outbox.wake())
    this.set('trouble', `not now: ${failure.message}; the rest goes on`, failure.hint)
    if (first) this.event('warning', failure.code, `not now: ${failure.message}; the rest goes on`, failure.hint)
  }

  /** No place rests any more. */
  private rested(): void {
    if (this.senderTarget) this.tellRunning(this.senderTarget)
    this.event('good', 'destination.takes', 'takes messages again')
  }

  /** A place has rested: waits for what is under way, then begins again at the oldest that has not gone out. */
  private async takeUp(over: () => boolean): Promise<boolean> {
    while (!over() && this.underWay.size > 0) await within(this.ctx.clock, 100, this.outbox.woken())
    if (over()) return false
    this.resting.again()
    this.outbox.rewind()
    return true
  }

  private later({ failure, waitMs = 0 }: Later): void {
    const { clock } = this.ctx
    // All that were under way get the same answer: one wait for all of them.
    if (this.laterUntil > clock.mono()) return
    const wait = Math.max(this.laterWait, Math.min(waitMs, LATER_MS.asked))
    this.laterUntil = clock.mono() + wait
    clock.after(wait, () => this.outbox.wake())
    this.set('trouble', `not now: ${failure.message}`, failure.hint)
    if (!this.laterTold) this.event('warning', failure.code, `not now: ${failure.message}`, failure.hint)
    this.laterTold = true
    this.laterWait = Math.min(this.laterWait * 2, LATER_MS.most)
    this.outbox.wake()
  }

  /** For good: it goes aside, with its reason. */
  private refuse(item: Item, failure: Failure): void {
    const { ledger, clock } = this.ctx
    const e = item.envelope
    this.outbox.acknowledged(item)
    const account = ledger.account(e.delivery)
    account.refused(e.seq, e.producedAt, e.turn)
    if (account.verdict(e.seq) === 'rejected') this.outbox.settled(item)
    this.ctx.putAside({ destinationId: this.destination.id, envelope: e, failure })
    const now = clock.mono()
    this.refused = {
      failure,
      count: (this.refused?.count ?? 0) + 1,
      since: this.refused?.since ?? clock.wall(),
      sinceMono: this.refused?.sinceMono ?? now,
    }
    if (now - this.refusals.at < REFUSALS_TOLD_MS) this.refusals.more++
    else {
      const more = this.refusals.more > 0 ? ` (and ${this.refusals.more} more since)` : ''
      this.event('trouble', failure.code, failure.message + more, failure.hint)
      this.refusals = { at: now, more: 0 }
    }
  }

  /** Waits for what is under way, for a while; nothing new goes out until `go` is called. */
  private async finish(ms: number): Promise<() => void> {
    this.finishing = true
    this.connection?.hurry?.(true)
    const { clock } = this.ctx
    const end = clock.mono() + ms
    while (this.underWay.size > 0 && clock.mono() < end) await within(clock, 50, this.outbox.woken())
    return () => {
      this.finishing = false
      this.outbox.wake()
    }
  }

  /** Takes up other settings: what need not be made anew stays, what must be is finished first. */
  async change(to: Lane): Promise<void> {
    const from = this.destination
    this.destination = to
    this.outbox.setLimits(limitsOf(to.settings))
    this.sending?.setPace({ firstMs: to.settings.retryMs, mostMs: to.settings.retryMs * 8 })
    this.rules()
    if (!this.loaded || this.stopped) return
    const target = await this.ctx.target(to).catch(() => null)
    const { driver } = this.ctx
    const sameSender =
      from.enabled === to.enabled &&
      from.settings.window === to.settings.window &&
      target !== null &&
      this.senderTarget !== null &&
      driver.sameSender(this.senderTarget, target)
    const sameWitness =
      from.enabled === to.enabled &&
      from.settings.witness === to.settings.witness &&
      (!to.settings.witness || (target !== null && this.witnessTarget !== null && driver.sameWitness(this.witnessTarget, target)))
    const go = sameSender ? null : await this.stopSending()
    // The witness first, so that it sees what is sent then.
    if (!sameWitness) await this.renewWitness()
    if (!go) return
    go()
    this.startSending()
  }

  /** Gives what lets messages go out again. */
  private async stopSending(): Promise<() => void> {
    const go = await this.finish(FINISH_MS)
    const old = this.sending
    this.sending = null
    const stopping = old?.stop()
    this.end()
    this.outbox.wake()
    await stopping
    return go
  }

  private async writeLast(): Promise<void> {
    if (!(await this.ctx.ledger.written()))
      throw fail(503, 'witness.waits', 'What the one before it counted cannot be written yet', 'Bring the database back', 'witness')
    this.lastUnwritten = false
  }

  private async renewWitness(): Promise<void> {
    const old = this.witness
    this.witness = null
    await this.ctx.ledger.flush()
    await old?.stop()
    this.lastUnwritten ||= old !== null
    await this.beginWitness()
  }

  /**
   * Lets the witness listen to other filters. Sending pauses for it, with nothing on the wire: a message in the moment
   * between the old and the new filter would pass unseen, and nobody could say whether it arrived.
   */
  async watch(filters: readonly string[]): Promise<void> {
    this.filters = filters
    this.rules()
    if (!this.witness || this.witness.listensTo(filters)) return
    this.marks = this.numbered()
    this.held = true
    this.connection?.hurry?.(true)
    try {
      const end = this.ctx.clock.mono() + HOLD_MS
      while (this.underWay.size > 0 && this.ctx.clock.mono() < end) await within(this.ctx.clock, 50, this.outbox.woken())
      await within(this.ctx.clock, LISTEN_MS, this.witness.setFilters(filters))
    } finally {
      this.held = false
      this.outbox.wake()
    }
  }

  private numbered(): Map<number, number> {
    return new Map(this.ctx.deliveriesOf(this.destination.id).map((d) => [d, this.ctx.ledger.account(d).numberedThrough]))
  }

  /** Lets go of filters that nobody asks for any more, once everything that went out under them is judged. */
  private releaseFilters(): void {
    if (!this.marks || !this.witness) return
    for (const [d, mark] of this.marks) {
      if (!this.ctx.isThere(d)) continue
      const { known, storedThrough } = this.ctx.ledger.account(d).standing
      if (storedThrough < mark || known.through < mark) return
    }
    this.marks = null
    this.witness.release([])
  }

  /** Whom the connection speaks for; when that changes it is made anew, with another will and other births. */
  async speakFor(session: NodeSession | null): Promise<void> {
    if (this.session?.identity === session?.identity) return
    if (this.nobodySpeaks() && this.status.state === 'off' && this.destination.enabled) this.set('starting', 'connecting')
    this.session = session
    const go = await this.finish(FINISH_MS)
    this.end()
    go()
  }

  /** Stops sending and reading; the outbox stores what is still in memory. */
  async stop(): Promise<void> {
    const go = await this.finish(this.loaded ? 2000 : 0)
    this.stopped = true
    this.stopReleasing()
    const stopping = [this.loading.stop(), this.sending?.stop(), this.preparing?.stop()]
    this.end()
    go()
    await Promise.all(stopping)
    await this.witness?.stop()
    await this.outbox.close()
    // Nobody waits any more for what it could not store.
    for (const who of [this.destination.id, `${this.destination.id} load`]) this.ctx.storeTrouble(who, null)
    await this.ctx.ledger.flush()
    await this.ctx.ledger.flush()
    this.ctx.ledger.detach(this.destination.id)
  }
}

const mayNotSend: Failure = {
  code: 'destination.may-not-send',
  message: 'Nothing is sent: while the database is away another engine may have taken over',
  hint: 'Bring the database back',
  where: 'destination',
}

/** Not a failure: the connection is to be another. */
const anew: Failure = { code: 'destination.anew', message: 'connects anew', hint: '', where: 'destination' }

function unacknowledged(seconds: number): Failure {
  return {
    code: 'destination.silent',
    message: `A message was not acknowledged within ${seconds} s`,
    hint: 'Embrik connects anew and sends again what is not acknowledged; what had arrived arrives twice',
    where: 'destination',
  }
}

function hangsUp(e: Envelope, driver: DestinationDriver): Failure {
  return {
    code: 'destination.hangs-up',
    message: `The link was lost three times on a message to ${driver.described(e)} that was alone on it: it went aside`,
    hint: `The other side hangs up on it: ${driver.dislikes}`,
    where: 'destination',
  }
}

function barredFailure(e: Envelope, driver: DestinationDriver): Failure {
  return { ...hangsUp(e, driver), message: `${e.topic.slice(0, 200)}: like those before it went aside; one is tried again every minute` }
}
