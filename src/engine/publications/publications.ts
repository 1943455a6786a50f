import { type Failure, FailureError, fail } from '~/contract/failure'
import type { Condition } from '~/contract/live'
import type { Plan } from '~/contract/publication'
import type { Envelope } from '~/core/delivery/envelope'
import { isOfRows } from '~/core/rows/changes'
import type { Db } from '~/store/database'
import { allReads, type DeliveryRow, listDeliveries, livePlanNumbers, plansOf } from '~/store/publication'
import { tookBack, toTakeBack } from '~/store/taken-back'
import { sleep, within } from '../clock/clock'
import type { Destinations } from '../destinations/destinations'
import { failureOf } from '../failure'
import type { Ledger } from '../ledger/ledger'
import { log, wordsOf } from '../log'
import { StepMemory } from './memory'
import { Publisher, type PublisherContext } from './publisher'

/** A plan that can't run is tried again so often: a later program, or other values, may run it, ms. */
const TRY_AGAIN_MS = 30_000
/** So long whoever sends something again waits for it to be stored, ms. */
const STORED_MS = 10_000
/** So long whoever asks a version that just went live for something waits for it to be taken up, ms, looking so often. */
const TAKEN_UP_MS = 15_000
const LOOK_MS = 50
/** So long a version that is over may take for what it has on its way, ms. */
const DRAIN_MS = 10_000

export interface PublicationsContext extends Omit<PublisherContext, 'outbox' | 'notYet'> {
  db: Db
  ledger: Ledger
  destinations: Destinations
  /** Whether this engine is the one that writes. */
  mayKeep(): boolean
  event(id: string, name: string, severity: 'good' | 'note' | 'trouble', code: string, message: string, hint?: string): void
}

interface Broken {
  plan: Plan
  failure: Failure
  since: number
  triedAt: number
}

/** All that is live, each in a compartment of its own. */
export class Publications {
  readonly running = new Map<string, Publisher>()
  /** Live plans that can't run, and why. */
  readonly broken = new Map<string, Broken>()
  deliveries: DeliveryRow[] = []
  private byDelivery = new Map<number, Publisher>()
  private byLane = new Map<string, number[]>()
  private laneByDelivery = new Map<number, string>()
  private numbers = new Set<number>()
  /** Which version of each is being taken up. */
  private readonly wanted = new Map<string, number>()
  /** Deliveries of which messages that take something back are on their way into the outbox. */
  private readonly takingBack = new Set<number>()

  /** Publications whose version before still has messages on their way. */
  private readonly draining = new Map<string, Promise<void>>()

  private readonly memory: StepMemory

  constructor(private readonly ctx: PublicationsContext) {
    this.memory = new StepMemory(ctx.db, ctx.clock, () => this.running.values(), ctx.mayKeep)
  }

  deliveriesOf(lane: string): readonly number[] {
    return this.byLane.get(lane) ?? []
  }

  /** The connection on which a plan's messages go out. */
  laneOf(plan: Pick<Plan, 'delivery' | 'destinationId'>): string {
    return this.laneByDelivery.get(plan.delivery) ?? plan.destinationId
  }

  isThere(delivery: number): boolean {
    return this.numbers.has(delivery)
  }

  of(delivery: number): Publisher | undefined {
    return this.byDelivery.get(delivery)
  }

  /** Reads which pairs of publication and destination there are: before anything else that goes by them. */
  async readDeliveries(): Promise<void> {
    this.deliveries = await listDeliveries(this.ctx.db)
    const numbers = new Set<number>()
    this.byLane = new Map()
    this.laneByDelivery = new Map(this.deliveries.map((d) => [d.number, d.lane]))
    for (const d of this.deliveries) {
      numbers.add(d.number)
      const list = this.byLane.get(d.lane)
      if (list) list.push(d.number)
      else this.byLane.set(d.lane, [d.number])
    }
    for (const n of this.numbers) if (!numbers.has(n)) this.ctx.ledger.forget(n)
    this.numbers = numbers
  }

  /** Brings what runs to what is live; each takes up its new version in one turn, when its destination is ready for it. */
  async reconcile(): Promise<void> {
    const { db, destinations, clock } = this.ctx
    const live = await livePlanNumbers(db)
    const now = clock.mono()
    const fresh = live.filter(({ publicationId: id, number }) => {
      if (this.wanted.get(id) !== number) return true
      const broken = this.broken.get(id)
      return broken !== undefined && now - broken.triedAt >= TRY_AGAIN_MS
    })
    // Plans first: what goes live while this reads is then either whole here, account and filters too, or left to the next time.
    const read = await plansOf(db, fresh)
    await this.readDeliveries()
    // What goes out on a connection that is not there yet is taken up with that: the next reading brings both.
    const plans = read.filter((p) => destinations.running.has(this.laneOf(p)))
    const filters = await allReads(db)
    for (const p of plans) await this.memory.read(p)
    const kept = new Set(live.map((l) => l.publicationId))
    for (const id of [...this.wanted.keys()]) if (!kept.has(id)) this.pause(id)
    for (const p of plans) this.wanted.set(p.publicationId, p.number)
    const byLane = new Map<string, Plan[]>()
    for (const p of plans) byLane.set(this.laneOf(p), [...(byLane.get(this.laneOf(p)) ?? []), p])
    for (const id of destinations.running.keys()) {
      const own = byLane.get(id) ?? []
      void destinations.for(id, async (d) => {
        await d?.watch(filters.get(id) ?? [])
        await this.swap(own)
        await this.takeBack(id)
      })
    }
  }

  /** Has one say how things are, once, as the version that is live says it; gives how many messages went. */
  async say(id: string, version: number): Promise<number> {
    return (await this.takenUp(id, version)).sayNow()
  }

  /** What runs a version that is live: one that just went live is waited for. */
  private async takenUp(id: string, version: number): Promise<Publisher> {
    const { clock } = this.ctx
    const until = clock.mono() + TAKEN_UP_MS
    for (;;) {
      const publisher = this.running.get(id)
      if (publisher?.begun && publisher.plan.number >= version) return publisher
      const broken = this.broken.get(id)
      if (broken && broken.plan.number >= version) throw new FailureError(broken.failure, 409)
      if (clock.mono() >= until) break
      await sleep(clock, LOOK_MS)
    }
    const hint = 'The engine, or its database, is busy or stands still: see what the first page says, and try again'
    throw fail(503, 'publication.still', `Version ${version} is live, and has not begun to run within ${TAKEN_UP_MS / 1000} s`, hint, 'publication')
  }

  /** Sends octets that a destination would not have before: as a message of its own. Gives its number. */
  async sendAgain({ delivery, ...message }: Pick<Envelope, 'delivery' | 'topic' | 'payload' | 'properties' | 'assurance'>): Promise<number> {
    const { destinations, ledger, clock } = this.ctx
    const lane = this.laneByDelivery.get(delivery)
    const outbox = lane === undefined ? null : (destinations.running.get(lane)?.outbox ?? null)
    if (!outbox)
      throw fail(
        409,
        'aside.nowhere',
        'Its publication or its destination is no more, or is switched off',
        'Switch the destination on first',
        'destination',
      )
    const now = clock.wall()
    const { seq, turn } = ledger.account(delivery).next(now)
    outbox.offer([{ delivery, ...message, seq, turn, deviceAt: now, producedAt: now, madeMono: clock.mono() }])
    // Away for longer, the database has it as soon as it is back: the message has its number and its account.
    if ((await within(clock, STORED_MS, outbox.stored())) === false)
      throw fail(503, 'aside.lost', 'It was pushed out of memory before it could be stored', 'Send it again when the database is back', 'outbox')
    return seq
  }

  private pause(id: string): void {
    this.wanted.delete(id)
    this.broken.delete(id)
    const running = this.running.get(id)
    if (!running) return
    this.end(running)
    this.running.delete(id)
    // What it keeps now is there when it goes on.
    void Promise.resolve(this.draining.get(id))
      .then(() => this.memory.keep([running]))
      .then(() => {
        if (!this.running.has(id)) this.memory.forget(id)
      })
    this.byDelivery.delete(running.plan.delivery)
    this.giveSessions()
    this.ctx.event(id, running.plan.name, 'note', 'publication.paused', 'paused')
  }

  /** Makes new versions ready, then exchanges old ones for them in one turn: no change of a tag falls between. */
  private async swap(plans: readonly Plan[]): Promise<void> {
    const ready = plans.flatMap((plan) => (this.wanted.get(plan.publicationId) === plan.number ? this.prepare(plan) : []))
    const replaced = new Map<string, Publisher>()
    for (const p of ready) {
      const old = this.running.get(p.plan.publicationId)
      if (old) {
        this.end(old)
        replaced.set(p.plan.publicationId, old)
        this.byDelivery.delete(old.plan.delivery)
      }
      this.running.set(p.plan.publicationId, p)
      this.byDelivery.set(p.plan.delivery, p)
    }
    // Before the first message: a connection that is to speak for somebody else takes none until it does.
    if (ready.length > 0) this.giveSessions()
    // What the old one still has on its way goes before what the new one says; where there is nothing no turn lies between.
    const draining = ready.flatMap((p) => this.draining.get(p.plan.publicationId) ?? [])
    if (draining.length > 0) await Promise.all(draining)
    for (const p of ready) {
      const id = p.plan.publicationId
      if (this.running.get(id) !== p) continue
      p.remember(this.keptOf(id, replaced.get(id)))
      p.begin()
    }
  }

  /** What its steps kept: of the version that ran until now, beside what earlier ones left. Of rows that one knows all that is still so. */
  private keptOf(id: string, before: Publisher | undefined): Map<string, string> {
    const left = [...this.memory.of(id)].filter(([place]) => !(before?.plan.feed && isOfRows(place)))
    return new Map([...left, ...(before?.memory() ?? [])])
  }

  /** One hears nothing new any more; what is on its way through its steps goes out, as long as that takes no longer than it may. */
  private end(old: Publisher): void {
    old.stop()
    const rest = old.drain()
    if (!rest) return
    const id = old.plan.publicationId
    const drained = within(this.ctx.clock, DRAIN_MS, rest).then(() => {
      if (this.draining.get(id) === drained) this.draining.delete(id)
    })
    this.draining.set(id, drained)
  }

  private prepare(plan: Plan): Publisher[] {
    const { publicationId: id, name } = plan
    const { ledger, destinations, clock } = this.ctx
    try {
      const p = new Publisher(plan, {
        ...this.ctx,
        memory: this.memory,
        outbox: () => destinations.running.get(this.laneOf(plan))?.outbox ?? null,
        notYet: (words) => this.ctx.event(id, name, 'note', 'publication.command', words, 'Commands are received, and not carried out'),
      })
      const topics = destinations.running.get(this.laneOf(plan))?.topics
      for (const m of plan.messages) if (typeof m.place === 'string') topics?.add(m.place, ledger.account(plan.delivery))
      this.broken.delete(id)
      this.ctx.event(id, name, 'good', 'publication.live', `live, version ${plan.number}, ${plan.equipment.length} equipment`)
      return [p]
    } catch (e) {
      const failure = failureOf(e, 'publication')
      const before = this.broken.get(id)
      if (before?.failure.message !== failure.message) {
        const goesOn = this.running.has(id) ? `; version ${this.running.get(id)!.plan.number} goes on` : ''
        this.ctx.event(id, name, 'trouble', 'publication.broken', `version ${plan.number} can't run: ${failure.message}${goesOn}`, failure.hint)
      }
      this.broken.set(id, { plan, failure, since: before?.since ?? clock.wall(), triedAt: clock.mono() })
      return []
    }
  }

  /** Whether some plan should be tried again. */
  get toBeTried(): boolean {
    const now = this.ctx.clock.mono()
    return [...this.broken.values()].some((b) => now - b.triedAt >= TRY_AGAIN_MS)
  }

  /** Sends what takes back what a destination keeps, and forgets that it is to once it is stored. */
  private async takeBack(lane: string): Promise<void> {
    for (const [delivery, left] of await toTakeBack(this.ctx.db)) {
      const publisher = this.byDelivery.get(delivery)
      if (!publisher || this.laneOf(publisher.plan) !== lane || this.takingBack.has(delivery)) continue
      this.takingBack.add(delivery)
      // An outbox may wait long for a database that is away: nothing waits for that.
      void publisher
        .takeBack(left)
        .then((stored) => (stored ? tookBack(this.ctx.db, delivery, left) : undefined))
        .catch((e: unknown) =>
          log('warn', 'publications', `${publisher.plan.name}: what is taken back is so again with its next start: ${wordsOf(e)}`),
        )
        .finally(() => this.takingBack.delete(delivery))
    }
  }

  /** Connections that speak for a node get its session; the others none. */
  private giveSessions(): void {
    this.ctx.destinations.speakFor(new Map([...this.running.values()].flatMap((p) => (p.session ? [[this.laneOf(p.plan), p.session] as const] : []))))
  }

  /** `sender` tells how the connection of a lane is doing. */
  conditions(sender: (lane: string) => Condition | null): Record<string, Condition> {
    const out: Record<string, Condition> = {}
    for (const [id, p] of this.running) out[id] = p.present(sender(this.laneOf(p.plan)))
    for (const [id, b] of this.broken)
      out[id] = {
        state: 'trouble',
        reason: `version ${b.plan.number} can't run: ${b.failure.message}`,
        hint: this.running.has(id) ? 'The version before goes on; correct the draft and go live again' : 'Correct the draft and go live again',
        since: b.since,
        rate: 0,
        last: null,
      }
    return out
  }

  /** What is gathered goes out before all ends. */
  async stop(): Promise<void> {
    for (const p of this.running.values()) this.end(p)
    await Promise.all(this.draining.values())
    this.memory.stop()
    await this.memory.keep(this.running.values())
  }
}
