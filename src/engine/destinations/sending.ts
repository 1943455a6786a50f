import type { Lane } from '~/contract/destination'
import type { Failure } from '~/contract/failure'
import type { PeerTime } from '~/core/proof/peer-time'
import { sleep, within } from '../clock/clock'
import { Retrying } from '../clock/retrying'
import { failureOf } from '../failure'
import type { DestinationConnection, DestinationTarget } from './driver'
import { type Course, Flow, LEASE_LOOK_MS } from './flow'
import type { LaneParts } from './lane'
import { Replies } from './replies'
import type { NodeSession } from './session'

/** How long sending pauses at most for messages under way, and then while the witness changes what it listens to, ms. */
const HOLD_MS = 3000
const LISTEN_MS = 30_000
/** How long messages under way are waited for before a connection is changed, ms. */
const FINISH_MS = 10_000
/** How long what has arrived is waited for to be seen before a connection is changed over, ms. */
const SEEN_MS = 5000
/** A connection that stood so long was a success, though nothing was sent on it, ms. */
const STOOD_MS = 10_000
/** How often it is said how long it still is until one may connect again, ms. */
const PACE_LOOK_MS = 500
/** It is looked so often whether the oldest message under way has its answer, ms. */
const OVERDUE_LOOK_MS = 500

/** Keeps a lane connected and its outbox flowing: one connection at a time, with waits between those that failed. */
export class Sending {
  private readonly replies: Replies
  private readonly course: Course = { through: -1, held: false, finishing: false }
  private retrying: Retrying | null = null
  private flow: Flow | null = null
  private connection: DestinationConnection | null = null
  private target: DestinationTarget | null = null
  private session: NodeSession | null = null
  /** The number of its next birth: a try that the other side never hears of uses none up. */
  private birth: { number: number; used: boolean } | null = null
  /** Ends the connection so that it is made anew. */
  private end: () => void = () => undefined

  constructor(
    private readonly lane: LaneParts,
    /** Resolves when the witness listens, or has had its time: it is to see the first messages. */
    private readonly heard: () => Promise<void>,
  ) {
    this.replies = new Replies(
      lane,
      () => this.retrying?.succeeded(),
      () => {
        if (this.target) lane.condition.running(this.target)
      },
    )
  }

  start(): void {
    const { condition, destination, ctx, stopped } = this.lane
    const { enabled, settings } = destination
    if (!enabled || stopped) {
      condition.set('off', 'switched off; the outbox holds what comes')
      return
    }
    condition.set('starting', 'connecting')
    this.retrying = new Retrying(ctx.clock, { firstMs: settings.retryMs, mostMs: settings.retryMs * 8 })
    const { retrying } = this
    retrying.start(
      () => this.connect(retrying),
      (e) => this.lost(failureOf(e, 'destination')),
    )
  }

  private lost(failure: Failure): void {
    if (!this.lane.stopped) this.lane.condition.lost(failure)
  }

  /** One connection, from its beginning to its end. */
  private async connect(retrying: Retrying): Promise<'again' | 'wait'> {
    const { lane } = this
    const { ctx, outbox, condition, suspicion } = lane
    const { clock } = ctx
    if (!ctx.maySend()) {
      condition.set('trouble', mayNotSend.message, mayNotSend.hint)
      await sleep(clock, LEASE_LOOK_MS)
      return 'again'
    }
    if (this.nobodySpeaks()) {
      condition.set('off', 'its node is not live; what waits goes out once it is')
      while (this.nobodySpeaks() && !lane.stopped && !retrying.stopped) await outbox.woken()
      return 'again'
    }
    const wait = lane.connectWait()
    if (wait > 0) {
      condition.set('starting', `connects again in ${Math.ceil(wait / 1000)} s, so as not to connect more often than the destination takes`)
      await sleep(clock, Math.min(wait, PACE_LOOK_MS))
      return 'again'
    }
    const target = await ctx.target(lane.destination)
    this.target = target
    let ended: Failure | null = null
    const down: Down = (failure) => {
      const first = ended === null
      ended ??= failure
      outbox.wake()
      return first
    }
    const over = () => lane.stopped || retrying.stopped || ended !== null
    const session = this.session && (await this.speaking(this.session))
    const another = () => session?.of.identity !== this.session?.identity
    const connection = await this.open(target, session, down, () => over() || !ctx.mayHold() || another())
    this.connection = connection
    lane.begunAnew('sender')
    const began = clock.mono()
    const flow = new Flow(lane, this.replies, this.course, connection, over)
    try {
      this.end = () => {
        if (down(anew)) flow.asked = true
      }
      await this.heard()
      // It may be meant to speak for somebody else since it began to connect.
      if (another()) this.end()
      condition.up(target, retrying.failures, outbox.waiting)
      outbox.rewind()
      outbox.eager = true
      this.flow = flow
      const noLonger = clock.every(OVERDUE_LOOK_MS, () => this.overdue(flow, connection, down))
      try {
        await flow.run()
      } finally {
        noLonger()
      }
    } finally {
      outbox.eager = false
      this.end = () => undefined
      this.connection = null
      connection.close()
      flow.close()
      this.flow = null
      suspicion.ended(flow.sent, flow.answered, this.course.through, flow.silent)
    }
    if (clock.mono() - began > STOOD_MS) retrying.succeeded()
    if (ended === anew) return 'again'
    if (ended !== null) this.lost(ended)
    return 'wait'
  }

  private open(target: DestinationTarget, session: Speaking | null, down: Down, over: () => boolean) {
    const { ctx, destination, outbox, remembered, anew } = this.lane
    return ctx.driver.open(target, {
      clock: ctx.clock,
      remembered,
      anew: anew.sender,
      session,
      over,
      days: { load: () => ctx.store.loadDay(destination.id), keep: (d) => ctx.store.keepDay(destination.id, d) },
      sink: {
        down,
        ready: () => outbox.wake(),
        anew: () => void this.changeOver(),
        waits: (failure) => this.lost(failure),
        asked: (words, hint) => this.lane.condition.event('note', 'destination.asked', words, hint),
        durable: (then) => ctx.ledger.afterFlush(then, undefined),
        wall: () => ctx.clock.wall(),
        mayGoOut: (ordinal) => outbox.mayGoOut(ordinal),
        doneLately: (n) => outbox.doneLately(n),
      },
    })
  }

  /** Gives a connection up that may not be kept, or on which the oldest message has had no answer in time. */
  private overdue(flow: Flow, connection: DestinationConnection, down: Down): void {
    const { ctx, destination } = this.lane
    // Another engine may begin soon, under the same name.
    if (!ctx.mayHold()) return this.end()
    const { ackS } = destination.settings
    const [oldest] = flow.underWay.values()
    if (oldest === undefined || connection.keepsTime || ctx.clock.mono() - oldest < ackS * 1000) return
    if (down(unacknowledged(ackS))) flow.silent = true
  }

  /** A node's own connection is only there while somebody speaks on it: without a birth before them its messages tell receivers nothing. */
  private nobodySpeaks(): boolean {
    return this.lane.destination.node !== '' && this.session === null
  }

  private async speaking(of: NodeSession): Promise<Speaking> {
    const { ctx, destination } = this.lane
    const birth = this.birth?.used === false ? this.birth : { number: await ctx.store.nextBirth(destination.id), used: false }
    this.birth = birth
    return { of, number: birth.number, used: () => void (birth.used = true) }
  }

  /** Whether the connection can stay with other settings; `target` is null where they cannot be had. */
  suits(from: Lane, to: Lane, target: DestinationTarget | null): boolean {
    if (from.enabled !== to.enabled || from.settings.window !== to.settings.window) return false
    return target !== null && this.target !== null && this.lane.ctx.driver.sameSender(this.target, target)
  }

  /** Whether a connection stands. */
  get connected(): boolean {
    return this.flow !== null
  }

  /** What the other side told last of its own time; null: nothing, undefined: its kind tells none. */
  peerTime(): PeerTime | null | undefined {
    const { connection } = this
    return connection ? (connection.peerTime ? connection.peerTime() : undefined) : null
  }

  /** How long the oldest message has been without an answer, ms; null: none is under way. */
  get unansweredMs(): number | null {
    const [oldest] = this.flow?.underWay.values() ?? []
    return oldest === undefined ? null : this.lane.ctx.clock.mono() - oldest
  }

  isConnectedBy(target: DestinationTarget): boolean {
    return this.connection !== null && this.target !== null && this.lane.ctx.driver.sameSender(this.target, target)
  }

  setPace(retryMs: number): void {
    this.retrying?.setPace({ firstMs: retryMs, mostMs: retryMs * 8 })
  }

  /** Nothing is under way, or so long has passed (ms). */
  private async idle(ms: number): Promise<void> {
    const { ctx, outbox } = this.lane
    this.connection?.hurry?.(true)
    const end = ctx.clock.mono() + ms
    while ((this.flow?.underWay.size ?? 0) > 0 && ctx.clock.mono() < end) await within(ctx.clock, 50, outbox.woken())
  }

  /** Does something while nothing is on the wire. */
  async pausedFor(work: () => Promise<void>): Promise<void> {
    this.course.held = true
    try {
      await this.idle(HOLD_MS)
      await within(this.lane.ctx.clock, LISTEN_MS, work())
    } finally {
      this.course.held = false
      this.lane.outbox.wake()
    }
  }

  /** Waits for what is under way, for a while; nothing new goes out until what it gives is called. */
  private async finish(ms: number): Promise<() => void> {
    this.course.finishing = true
    await this.idle(ms)
    return () => {
      this.course.finishing = false
      this.lane.outbox.wake()
    }
  }

  /** Whom the connection speaks for; when that changes it is made anew, with another will and other births. */
  async speakFor(session: NodeSession | null): Promise<void> {
    if (this.session?.identity === session?.identity) return
    const { condition, destination } = this.lane
    if (this.nobodySpeaks() && condition.state === 'off' && destination.enabled) condition.set('starting', 'connecting')
    this.session = session
    await this.changeOver()
  }

  /** Makes the connection anew once nothing is under way, and what arrived was seen: the next one may go elsewhere. */
  private async changeOver(): Promise<void> {
    const { end } = this
    const go = await this.finish(FINISH_MS)
    await this.seen(SEEN_MS)
    // Unless it was lost meanwhile, and another stands in its place.
    if (end === this.end) end()
    go()
  }

  /** All that the other side says to have was seen by the witness, or so long has passed (ms). */
  private async seen(ms: number): Promise<void> {
    const { ctx, destination, outbox } = this.lane
    if (!destination.settings.witness) return
    const open = () =>
      ctx.deliveriesOf(destination.id).some((d) => {
        const { known, answered } = ctx.ledger.account(d).standing
        return known.through < (answered.max ?? 0)
      })
    const end = ctx.clock.mono() + ms
    while (open() && this.connection && ctx.clock.mono() < end) await within(ctx.clock, 50, outbox.woken())
  }

  /** Ends the connection, to be started anew; gives what lets messages go out again. */
  async pause(): Promise<() => void> {
    const go = await this.finish(FINISH_MS)
    const old = this.retrying
    this.retrying = null
    const stopping = old?.stop()
    this.end()
    this.lane.outbox.wake()
    await stopping
    return go
  }

  /** Ends for good: waits for what is under way (ms), then for `last`, which has the lane stopped, and for the connection. */
  async stop(ms: number, last: () => Promise<unknown>): Promise<void> {
    const go = await this.finish(ms)
    const stopping = [last(), this.retrying?.stop()]
    this.end()
    go()
    await Promise.all(stopping)
  }
}

/** The connection is over; gives whether it was not yet. */
type Down = (why: Failure) => boolean

interface Speaking {
  of: NodeSession
  number: number
  used(): void
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
