import type { Failure } from '~/contract/failure'
import { digest } from '~/core/delivery/digest'
import { type Envelope, messageId } from '~/core/delivery/envelope'
import { sleep, within } from '../clock/clock'
import type { Item } from '../outbox/segment-state'
import type { DestinationConnection, DestinationDriver } from './driver'
import type { LaneParts } from './lane'
import type { Replies } from './replies'

/** How long a link may take to answer before a suspected message is tried on it, ms. */
const HEARD_MS = 6000
/** A cut way takes the sender's link and the witness's within this, ms. */
const TOGETHER_MS = 250
/** The right to send is looked at again so often while it is in doubt, ms. */
export const LEASE_LOOK_MS = 200

/** What waited goes out in bursts of this length, ms. */
const DRAIN_BURST_MS = 50

/** What stays from one connection to the next. */
export interface Course {
  /** The highest position that ever went out in this run. */
  through: number
  /** No new message goes out: the witness changes what it listens to. */
  held: boolean
  /** No new message goes out: the connection is to be ended. */
  finishing: boolean
}

/** Messages on one connection: sent in order, with at most a window of them under way, until it is over. */
export class Flow {
  /** Messages on the wire, the oldest first, and since when (monotonic ms). */
  readonly underWay = new Map<Item, number>()
  /** What was left alone at the end of the connection, and when that went out. */
  private readonly left = new Map<Item, number>()
  sent = 0
  /** Answers of the destination: what is only sent has none when the link is lost. */
  answered = 0
  /** The connection was given up since a message was not acknowledged in time. */
  silent = false
  /** It was ended by this side, for a change. */
  asked = false
  /** Since when nothing is under way, or was before what is; ms. */
  private idleSince: number
  private closed = false
  /** What was made or stored before is what waited, monotonic ms. */
  private readonly begunAt: number
  /** When the next of what waited may go out, monotonic ms. */
  private drainAt: number

  constructor(
    private readonly lane: LaneParts,
    private readonly replies: Replies,
    private readonly course: Course,
    private readonly connection: DestinationConnection,
    private readonly over: () => boolean,
  ) {
    this.idleSince = this.begunAt = this.drainAt = lane.ctx.clock.mono()
  }

  /** Answers that come now are for nobody, but for those that say what was left alone. */
  close(): void {
    this.closed = true
  }

  async run(): Promise<void> {
    const { over, underWay, replies } = this
    const { ctx, outbox, suspicion } = this.lane
    const { clock } = ctx
    replies.resting.again()
    this.idleSince = clock.mono()
    if (suspicion.careful && !(await this.control())) return
    if (suspicion.wary && !suspicion.careful) this.goesSlowly()
    while (!over()) {
      if (replies.waits && !(await replies.waitLater(underWay, over))) continue
      if (replies.resting.due(clock.mono()) && !(await replies.takeUp(underWay, over))) continue
      const item = outbox.next()
      if (!item) {
        if (underWay.size === 0 && replies.resting.through(clock.mono())) replies.takesAgain()
        if (underWay.size === 0 && replies.resting.none) this.trusts()
        await outbox.more()
        continue
      }
      if (!(await this.drains(item))) break
      while (!over() && !replies.waits && this.blocked(item)) await outbox.woken()
      if (over()) break
      if (replies.waits) continue
      if (await this.passedBy(item)) continue
      if (!(await this.goesOut(item))) break
    }
    await this.accuse()
  }

  /** Waits for the turn of a message that waited for the connection, where those go out slowly; false: the connection is over. */
  private async drains(item: Item): Promise<boolean> {
    const { ctx, destination, outbox } = this.lane
    const { drainPerS } = destination.settings
    const { segment, envelope } = item
    // What was made before waited too, though it came to the disk only then.
    if (!(drainPerS > 0) || Math.min(segment.writtenAt, envelope.madeMono) >= this.begunAt) return true
    const { clock } = ctx
    this.drainAt = Math.max(this.drainAt, clock.mono() - DRAIN_BURST_MS) + 1000 / drainPerS
    while (!this.over() && this.drainAt > clock.mono() + DRAIN_BURST_MS) await within(clock, this.drainAt - clock.mono(), outbox.woken())
    return !this.over()
  }

  private blocked(item: Item): boolean {
    const { connection, course, underWay, replies } = this
    const window = replies.probing ? 1 : Math.min(this.lane.suspicion.most, connection.window)
    if (underWay.size >= window) connection.hurry?.(false)
    return course.held || course.finishing || underWay.size >= window || !this.mayGo() || !connection.ready(ordinalOf(item), item.envelope)
  }

  private mayGo(): boolean {
    const { ctx, outbox } = this.lane
    if (ctx.maySend()) return true
    ctx.clock.after(LEASE_LOOK_MS, () => outbox.wake())
    return false
  }

  /** Whether it does not go out now, since its place rests, or never, since nobody waits for it any more. */
  private async passedBy(item: Item): Promise<boolean> {
    const { ctx, outbox } = this.lane
    const { resting } = this.replies
    const { topic, delivery } = item.envelope
    if (resting.rests(topic, ctx.clock.mono())) {
      resting.pass(topic)
      while (!this.over() && resting.full && !resting.due(ctx.clock.mono())) await outbox.woken()
      return true
    }
    if (ctx.isThere(delivery)) return false
    // Its publication is no more.
    outbox.acknowledged(item)
    outbox.settled(item)
    return true
  }

  /** Hands a message to the connection, or aside where it cannot go; false: the connection is over. */
  private async goesOut(item: Item): Promise<boolean> {
    const { lane, connection, underWay, course } = this
    const { ctx, outbox, suspicion } = lane
    const e = item.envelope
    const ordinal = ordinalOf(item)
    const m = {
      envelope: e,
      id: messageId(ctx.installation, e.delivery, e.seq),
      ordinal,
      again: ordinal <= course.through,
      inDoubt: outbox.inDoubt(ordinal),
      alone: suspicion.careful || suspicion.suspects(item),
    }
    const unfit = connection.unfit(m) ?? (suspicion.barred(item, ctx.clock.mono()) ? barredFailure(e, ctx.driver) : null)
    if (unfit) {
      this.replies.refuse(item, unfit)
      return true
    }
    const alone = suspicion.suspects(item)
    if (alone && !(await this.quiet())) return false
    noteSent(lane, item)
    ctx.step('sent', e.delivery, e.seq, ctx.clock.wall())
    underWay.set(item, ctx.clock.mono())
    this.sent++
    if (ordinal > course.through) course.through = ordinal
    connection.send(m, (answer) => {
      if (this.closed && answer.kind !== 'left') return
      if (answer.kind === 'left') this.left.set(item, underWay.get(item) ?? ctx.clock.mono())
      else this.answered++
      underWay.delete(item)
      if (underWay.size === 0) this.idleSince = ctx.clock.mono()
      this.replies.answered(item, answer)
      if (underWay.size === 0 || underWay.size === connection.window - 1) outbox.wake()
    })
    while (alone && underWay.size > 0 && !this.over()) await outbox.woken()
    return true
  }

  /** The connection ended with messages under way: was it for one that was alone on it? */
  private async accuse(): Promise<void> {
    const { lane, left, course } = this
    const { ctx, suspicion, destination } = lane
    const there = new Map([...this.underWay, ...left])
    const [first, ...others] = there
    if (!first || lane.stopped || course.finishing || this.silent || this.asked) return
    suspicion.lostWith(there.keys())
    const [item, since] = first
    const now = ctx.clock.mono()
    if (others.length > 0 || now - since >= destination.settings.ackS * 1000) return
    if (!(suspicion.careful || suspicion.suspects(item)) || !suspicion.tells(since - this.idleSince, now - since)) return
    // Where the way there is cut, the witness's link is cut too.
    await sleep(ctx.clock, TOGETHER_MS)
    if (lane.stopped || course.finishing) return
    if (!suspicion.strike(item, now, now - since, lane.witnessLostSince(now - TOGETHER_MS))) return
    this.replies.succeeded()
    // What is only sent does not go out again: it is what follows that goes aside.
    if (!left.has(item)) this.replies.refuse(item, hangsUp(item.envelope, ctx.driver))
  }

  /** All went out that a link was lost on: no message is tried alone any more. */
  private trusts(): void {
    const { suspicion } = this.lane
    if (!suspicion.wary) return
    suspicion.passed()
    this.replies.running()
  }

  /** Nothing is under way, and the link was seen to hold just now; false: it is over. */
  private async quiet(): Promise<boolean> {
    while (this.underWay.size > 0 && !this.over()) await this.lane.outbox.woken()
    return !this.over() && this.holds()
  }

  /** Whether the link holds while nothing is sent on it. */
  private async control(): Promise<boolean> {
    this.lane.condition.set('trouble', 'tries messages one by one: the link was lost on one of them', 'The one at fault goes aside, the others go on')
    return this.holds()
  }

  private goesSlowly(): void {
    const { condition, destination } = this.lane
    const words = `begins again with one message: of many, none was acknowledged within ${destination.settings.ackS} s`
    condition.set('trouble', words, 'The link or the other side is slow')
  }

  /** Whether the link answers, and is then not lost while nothing is sent on it. */
  private async holds(): Promise<boolean> {
    const { lane, over, course } = this
    const { clock } = lane.ctx
    await within(clock, HEARD_MS, this.connection.heard())
    const end = clock.mono() + lane.suspicion.holdMs
    while (!over() && clock.mono() < end) await sleep(clock, 50)
    if (over() && !lane.stopped && !course.finishing) lane.suspicion.lostIdle()
    return !over()
  }
}

const ordinalOf = (item: Item) => item.segment.ordinal + item.index

/** Opens the message in its account; with `before` an earlier run sent it. */
export function noteSent({ ctx, topics, outbox }: LaneParts, item: Item, before = false): void {
  const e = item.envelope
  const account = ctx.ledger.account(e.delivery)
  topics.add(e.topic, account)
  const { seq, topic, assurance, deviceAt, producedAt, turn, madeMono } = e
  const { driver } = ctx
  const within = driver.within(e)
  const sum = driver.digest?.(e) ?? digest(typeof e.payload === 'string' ? Buffer.from(e.payload) : e.payload)
  const m = { seq, topic, within, digest: sum, assurance, deviceAt, producedAt, turn, madeMono }
  const now = ctx.clock.mono()
  if (!before) outbox.went(item, now)
  account.sent(m, now, (seenAt) => outbox.settled(item, seenAt), before)
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
