import type { Destination } from '~/contract/destination'
import type { Failure } from '~/contract/failure'
import type { Condition } from '~/contract/live'
import type { Account } from '~/core/delivery/account'
import { digest } from '~/core/delivery/digest'
import { type Envelope, messageId } from '~/core/delivery/envelope'
import type { Db } from '~/store/database'
import { readWitnessSession } from '~/store/ledger'
import { nextBirth } from '~/store/publication'
import type { Events } from '../events'
import { failureOf } from '../failure'
import type { Ledger } from '../ledger/ledger'
import { Rate } from '../live/rate'
import { type Item, Outbox } from '../outbox/outbox'
import { TopicIndex } from '../witness/topics'
import { Witness } from '../witness/witness'
import type { DestinationConnection, DestinationTarget } from './driver'
import { witnessAccess } from './mqtt/driver'
import { destinationDrivers } from './registry'
import type { NodeSession } from './session'

/** How long sending waits for the witness to listen, so that it sees the first messages. */
const WITNESS_HEAD_START_MS = 5000

/** How long sending pauses at most while the witness changes what it listens to. */
const HOLD_MS = 3000

export type Step = 'stored' | 'sent' | 'acknowledged' | 'confirmed'

export interface DestinationContext {
  db: Db
  installation: string
  ledger: Ledger
  events: Events
  /** Hears of every step of a message that somebody watches. */
  step(step: Step, delivery: number, seq: number, at: number): void
}

/** Keeps one destination connected and its outbox flowing, with a witness at its far end. */
export class DestinationSupervisor {
  readonly outbox: Outbox
  readonly witness: Witness | null
  /** Who writes to which topic there. */
  readonly topics: TopicIndex
  private status: Pick<Condition, 'state' | 'reason' | 'hint' | 'since'>
  private stopped = false
  private wake: (() => void) | null = null
  private readonly rate = new Rate()
  private last: number | null = null
  private running: Promise<void> = Promise.resolve()
  private storeTrouble = false
  /** Messages on the wire now, the oldest first, and since when. */
  private underWay = new Map<Item, number>()
  private held = false
  private refusedAt = 0
  private session: NodeSession | null = null
  /** Ends the connection so that it is made anew. */
  private end: () => void = () => undefined

  constructor(
    readonly destination: Destination,
    private readonly target: DestinationTarget,
    private readonly ctx: DestinationContext,
    filters: readonly string[],
    before?: DestinationSupervisor,
  ) {
    const { settings } = destination
    this.status = destination.enabled
      ? { state: 'starting', reason: 'connecting', hint: '', since: Date.now() }
      : { state: 'off', reason: 'switched off; the outbox holds what comes', hint: '', since: Date.now() }
    this.topics = before?.topics ?? new TopicIndex()
    this.outbox = before?.outbox ?? new Outbox(ctx.db, destination.id, settings.outboxMb * 1_000_000, this.hooks())
    this.outbox.setCap(settings.outboxMb * 1_000_000)
    this.witness =
      settings.witness && destination.enabled
        ? new Witness({
            access: witnessAccess(target),
            retryMs: settings.retryMs,
            installation: ctx.installation,
            destinationId: destination.id,
            byId: destinationDrivers[destination.kind].carriesId(settings),
            ledger: ctx.ledger,
            topics: this.topics,
            filters,
            hooks: {
              event: (severity, code, message, hint) => this.event(severity, code, `witness: ${message}`, hint),
              confirmed: (delivery, seq, at) => ctx.step('confirmed', delivery, seq, at),
            },
          })
        : null
  }

  private hooks() {
    const { ledger, step } = this.ctx
    return {
      stored: (e: Envelope) => {
        ledger.account(e.delivery).stored(e.seq, e.producedAt)
        ledger.producedRate.add(1)
        step('stored', e.delivery, e.seq, Date.now())
      },
      dropped: (e: Envelope, acknowledged: boolean) => {
        const account = ledger.account(e.delivery)
        if (acknowledged) account.forgotten(e.seq)
        else account.dropped(e.seq, e.producedAt)
        this.noteDrop(acknowledged)
      },
      trouble: (message: string | null) => {
        if (message === null) {
          if (this.storeTrouble) this.event('good', 'outbox.stores', 'the database takes messages again', '')
          this.storeTrouble = false
        } else if (!this.storeTrouble) {
          this.storeTrouble = true
          this.event('trouble', 'outbox.database', `messages wait in memory: ${message}`, 'Start the database again; up to 50,000 messages wait')
        }
      },
    }
  }

  private droppedNow = 0
  private noteDrop(acknowledged: boolean): void {
    if (acknowledged) return
    if (this.droppedNow++ > 0) return
    setTimeout(() => {
      this.event(
        'trouble',
        'outbox.full',
        `${this.droppedNow} messages dropped, the oldest first: the outbox is full`,
        'Give it more room, or bring the link back',
      )
      this.droppedNow = 0
    }, 1000).unref()
  }

  /** Takes over what an earlier run left. */
  async load(): Promise<void> {
    const { ledger } = this.ctx
    await this.outbox.load((item, uncounted, acknowledged) => {
      const e = item.envelope
      const account = ledger.account(e.delivery)
      // Before the witness says its first word: by these rules it is judged.
      const { witness, lateS } = this.destination.settings
      account.witnessed = witness
      account.limits = { ...account.limits, lateMs: lateS * 1000 }
      const { answered } = account.standing
      const done = acknowledged || answered.has(e.seq)
      if (uncounted) account.stored(e.seq, e.producedAt)
      // What went out before another that was answered has been on the wire too.
      if (done || e.seq < (answered.max ?? 0)) this.send(account, item)
      if (done) account.acknowledged(e.seq, Date.now())
      return done
    })
  }

  /** Opens the message in its account. */
  private send(account: Account, item: Item): void {
    const e = item.envelope
    this.topics.add(e.topic, account)
    const { seq, topic, qos, deviceAt, producedAt } = e
    const octets = typeof e.payload === 'string' ? Buffer.from(e.payload) : e.payload
    account.sent({ seq, topic, digest: digest(octets), qos, deviceAt, producedAt }, () => this.outbox.settled(item))
  }

  async start(): Promise<void> {
    const session = this.witness ? await readWitnessSession(this.ctx.db, this.destination.id) : null
    this.ctx.ledger.attach(this.outbox, this.witness)
    this.witness?.start(session)
    if (this.destination.enabled) this.running = this.run()
  }

  present(): Condition {
    return { ...this.status, rate: this.rate.perSecond(), last: this.last }
  }

  private set(state: Condition['state'], reason: string, hint = ''): void {
    this.status = { state, reason, hint, since: Date.now() }
  }

  private event(severity: 'good' | 'warning' | 'trouble', code: string, message: string, hint: string): void {
    this.ctx.events.add({ severity, where: 'destination', subjectId: this.destination.id, subject: this.destination.name, code, message, hint })
  }

  private async run(): Promise<void> {
    const { settings, kind } = this.destination
    let wait = settings.retryMs
    let attempts = 0
    await this.witness?.ready(WITNESS_HEAD_START_MS)
    while (!this.stopped) {
      let down: Failure | null = null
      this.wake = () => this.outbox.wake()
      try {
        const session = this.session && { of: this.session, number: await nextBirth(this.ctx.db, this.destination.id) }
        const connection = await destinationDrivers[kind].open(
          this.target,
          {
            down: (failure) => {
              down = failure
              this.outbox.wake()
              this.wake?.()
            },
          },
          session,
        )
        this.end = () => {
          down ??= anew
          this.outbox.wake()
        }
        // It may be meant to speak for somebody else since it began to connect.
        if (session?.of.identity !== this.session?.identity) down ??= anew
        if (this.witness && attempts > 0) await this.witness.ready(WITNESS_HEAD_START_MS)
        const waiting = this.outbox.waiting
        this.event(
          'good',
          'destination.up',
          attempts > 0
            ? `up again after ${attempts} ${attempts === 1 ? 'try' : 'tries'}; ${waiting} messages waiting`
            : `up; ${waiting} messages waiting`,
          '',
        )
        this.set('running', settings.tls ? (this.target.credential?.kind === 'certificate' ? 'TLS, client certificate' : 'TLS') : 'without TLS')
        wait = settings.retryMs
        attempts = 0
        this.outbox.rewind()
        this.outbox.eager = true
        const overdue = setInterval(() => {
          const [oldest] = this.underWay.values()
          if (oldest === undefined || Date.now() - oldest < settings.ackS * 1000) return
          down ??= unacknowledged(settings.ackS)
          this.outbox.wake()
        }, 500)
        await this.pump(connection, () => this.stopped || down !== null).finally(() => clearInterval(overdue))
        this.outbox.eager = false
        await connection.close()
        this.end = () => undefined
        if (down === anew) {
          attempts = 0
          continue
        }
        if (down !== null) this.fail(down)
      } catch (e) {
        const failure = failureOf(e, 'destination')
        if (attempts === 0) this.fail(failure)
        else this.set('trouble', failure.message, failure.hint)
      }
      this.outbox.eager = false
      if (this.stopped) break
      attempts++
      await new Promise<void>((done) => {
        const timer = setTimeout(done, wait)
        this.wake = () => {
          clearTimeout(timer)
          done()
        }
      })
      wait = Math.min(wait * 2, settings.retryMs * 8)
    }
  }

  /**
   * Lets the witness listen to other filters. Sending pauses for it, with nothing on the wire: a message in the moment
   * between the old and the new filter would pass unseen and count as missing.
   */
  async watch(filters: readonly string[]): Promise<void> {
    if (!this.witness || this.witness.listensTo(filters)) return
    this.held = true
    try {
      const end = Date.now() + HOLD_MS
      while (this.underWay.size > 0 && Date.now() < end) await Promise.race([this.outbox.woken(), new Promise((done) => setTimeout(done, 50))])
      await Promise.race([this.witness.setFilters(filters), new Promise((done) => setTimeout(done, HOLD_MS))])
    } finally {
      this.held = false
      this.outbox.wake()
    }
  }

  /** Whom the connection speaks for; when that changes it is made anew, with another will and other births. */
  speakFor(session: NodeSession | null): void {
    if (this.session?.identity === session?.identity) return
    this.session = session
    this.end()
  }

  private fail(failure: Failure): void {
    this.set('trouble', failure.message, failure.hint)
    this.event('trouble', failure.code, failure.message, failure.hint)
  }

  /** Sends in order until told to stop, with at most a window of messages under way. */
  private async pump(connection: DestinationConnection, over: () => boolean): Promise<void> {
    const { ledger, installation, step } = this.ctx
    const underWay = new Map<Item, number>()
    this.underWay = underWay
    while (!over()) {
      const item = this.outbox.next()
      if (!item) {
        await this.outbox.more()
        continue
      }
      while (!over() && (this.held || underWay.size >= connection.window || !connection.ready(() => this.outbox.wake()))) await this.outbox.woken()
      if (over()) return
      const e = item.envelope
      const account = ledger.account(e.delivery)
      const now = Date.now()
      this.send(account, item)
      step('sent', e.delivery, e.seq, now)
      underWay.set(item, now)
      connection.send(e, messageId(installation, e.delivery, e.seq), (refused) => {
        underWay.delete(item)
        this.answered(item, refused)
        if (this.held || underWay.size === connection.window - 1) this.outbox.wake()
      })
    }
  }

  private answered(item: Item, refused: Failure | null): void {
    const { ledger, step } = this.ctx
    const e = item.envelope
    const account = ledger.account(e.delivery)
    const now = Date.now()
    this.outbox.acknowledged(item)
    this.last = now
    if (refused) {
      account.refused(e.seq)
      if (now - this.refusedAt > 10_000) this.event('trouble', refused.code, refused.message, refused.hint)
      this.refusedAt = now
      return
    }
    account.acknowledged(e.seq, now)
    this.rate.add(1, now)
    ledger.ackedRate.add(1, now)
    step('acknowledged', e.delivery, e.seq, now)
  }

  /** Stops sending; the outbox stays open unless `closeOutbox`, for a successor with other settings. */
  async stop(closeOutbox = true): Promise<void> {
    this.stopped = true
    this.outbox.wake()
    this.wake?.()
    await this.running
    await this.witness?.stop()
    if (closeOutbox) {
      await this.outbox.close()
      await this.ctx.ledger.flush()
      this.ctx.ledger.detach(this.destination.id)
    }
  }
}

/** Not a failure: the connection is to speak for somebody else. */
const anew: Failure = { code: 'destination.anew', message: 'connects anew', hint: '', where: 'destination' }

function unacknowledged(seconds: number): Failure {
  return {
    code: 'destination.silent',
    message: `A message was not acknowledged within ${seconds} s`,
    hint: 'Embrik connects anew and sends again what is not acknowledged; what had arrived arrives twice',
    where: 'destination',
  }
}
