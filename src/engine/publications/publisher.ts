import { fail } from '~/contract/failure'
import type { Condition } from '~/contract/live'
import type { Plan } from '~/contract/publication'
import type { PlanRows } from '~/contract/rows'
import type { LeftBehind } from '~/core/address/kind'
import { sentAs } from '~/core/address/kinds'
import type { Envelope } from '~/core/delivery/envelope'
import { nothing, packProperties } from '~/core/delivery/properties'
import type { SpeakingFact } from '~/core/proof/way-facts'
import type { ValueArrays } from '~/core/publication/cells/cell'
import { type Addressed, Runner } from '~/core/publication/runner'
import { stepNames } from '~/core/publication/steps/apply'
import type { Row } from '~/core/publication/steps/row'
import { isFramed } from '~/core/shape/framed'
import type { HostFacts } from '~/core/shape/shape'
import type { Cancel, Clock } from '../clock/clock'
import type { NodeSession } from '../destinations/session'
import type { Ledger } from '../ledger/ledger'
import { Rate } from '../live/rate'
import type { LiveTable } from '../live/table'
import { wordsOf } from '../log'
import type { Outbox } from '../outbox/outbox'
import type { Scripts } from '../scripts/scripts'
import type { Documents } from '../sources/documents'
import { inCompartment } from '../watchdog'
import { Due } from './due'
import { Failing } from './failing'
import { Flow } from './flow'
import { KindRates } from './kind-rates'
import { LastShown } from './last-shown'
import { type Packed, packer } from './message'
import { publisherCondition } from './publisher-condition'
import { RowFeed } from './row-feed'
import { deviceLost, sparkplugSession } from './sparkplug-session'
import { unanswered } from './unanswered'

/** Commands that cannot be carried out are told so often at most, ms. */
const COMMANDS_TOLD_MS = 10_000
/** How it stands is looked up again so often at most, however many look, ms. */
const FRESH_MS = 1000

/** Where messages are lost before there are any: as they are made, in a step, or as rows are read. */
export type TroubleIn = 'making' | 'step' | 'rows'

export interface PublisherContext {
  table: LiveTable
  ledger: Ledger
  clock: Clock
  /** Where its messages go. */
  outbox: () => Pick<Outbox, 'offer' | 'stored' | 'waiting'> | null
  scripts: Scripts
  /** Whole answers of sources, for publications of rows. */
  documents: Documents
  /** What is kept of rows, before something is told of them. */
  memory?: { isUnsure(publicationId: string, place: string): boolean; unsure(publicationId: string, places: readonly string[]): Promise<void> }
  host?: HostFacts
  /** Somebody at the far end asked for what cannot be done. */
  notYet(words: string): void
  /** A message could not be made, or did not get through a step: told once for as long as it goes on. */
  trouble(publicationId: string, name: string, e: unknown, where: TroubleIn): void
}

/** What no place can be, in the outbox and over any protocol (MQTT 5 1.5.4). */
function demandPlace(place: string): void {
  if (place.length > 21_845 && Buffer.byteLength(place) > 65_535)
    throw new Error(`its address has ${place.length} characters: 65535 octets are possible`)
}

/** Runs one frozen plan: from changes of tags, or the clock, to numbered messages in the outbox. */
export class Publisher {
  private readonly runner: Runner
  private readonly compartment: string
  private readonly due: Due
  /** The steps that take their time; null: there are none. */
  private readonly flow: Flow | null
  /** Where it is about rows of a source: what it speaks of, one after the other. */
  private readonly rows: RowFeed | null
  /** What its members read. */
  private readonly values: ValueArrays
  /** Messages that do not get through a step, and those that cannot be made. */
  private readonly inSteps = new Failing()
  private readonly making = new Failing()
  private unsubscribe: Cancel = () => undefined
  private readonly stopLookups: Cancel[] = []
  private readonly since: number
  private readonly pack: ReturnType<typeof packer>
  /** What its destination's connection has to do for it; null: nothing. */
  readonly session: NodeSession | null
  readonly rate = new Rate()
  private readonly kinds: KindRates
  private producedCount = 0
  private lastAt: number | null = null
  /** Messages whose devices were told to be lost. */
  private readonly lostTold = new Set<number>()
  private commands = { toldAt: Number.NEGATIVE_INFINITY, count: 0 }
  private failing: string | null = null
  /** Whether it speaks. */
  begun = false
  private waiting: { at: number; held: number } | null = null
  /** A message made lately, and its way so far: for people who look. */
  readonly shown: LastShown

  /** Makes all ready; throws when the plan cannot run. Nothing is heard or said before `begin`. */
  constructor(
    readonly plan: Plan,
    private readonly ctx: PublisherContext,
  ) {
    const { clock, table, host } = ctx
    this.compartment = `publication ${plan.name}`
    if (isFramed(plan.shape) && plan.messages.some((m) => m.schemaId === undefined))
      throw fail(409, 'publication.schemas', 'Its schemas have no numbers', 'Go live again: the registry gives them then', 'publication')
    this.since = clock.wall()
    this.kinds = new KindRates(plan.messages.length, clock)
    this.runner = new Runner(plan, host)
    this.shown = new LastShown(plan)
    this.pack = packer(plan)
    this.session =
      plan.shape.kind === 'sparkplug-b'
        ? sparkplugSession(plan, plan.shape, this.runner, table, {
            waiting: () => ctx.outbox()?.waiting ?? 0,
            notYet: (words) => this.notYet(words),
          })
        : null
    this.rows = plan.feed ? this.feedOf({ ...plan, feed: plan.feed }) : null
    this.values = this.rows?.values ?? table
    if (!this.rows) for (const h of this.runner.handles) table.ensure(h)
    this.due = new Due({
      ...{ plan, runner: this.runner, values: this.values, clock },
      say: (messages, whole) => (this.rows ? void this.rows.all() : this.say(messages, whole)),
      guarded: (work) => this.guarded(work),
    })
    this.flow = (plan.stages ?? []).length === 0 ? null : this.flowOf(ctx)
  }

  private say(messages: readonly number[], whole: boolean): void {
    if (this.flow) this.flow.offer(messages, whole)
    else this.publish(messages, whole)
  }

  private feedOf(plan: Plan & { feed: PlanRows }): RowFeed {
    const { clock, documents, outbox } = this.ctx
    return new RowFeed({
      ...{ plan, clock, documents },
      isUnsure: (place) => this.ctx.memory?.isUnsure(plan.publicationId, place) ?? true,
      unsure: (places) => this.ctx.memory?.unsure(plan.publicationId, places) ?? Promise.resolve(),
      say: () => {
        if (!outbox()) return false
        for (const h of this.runner.handles) this.runner.touch(h)
        this.runner.drain(this.values, clock.wall())
        this.say([0], true)
        return true
      },
      trouble: (failure) => failure && this.trouble(new Error(failure.message), 'rows'),
      guarded: (work) => this.guarded(work),
    })
  }

  private flowOf({ scripts, clock }: PublisherContext): Flow {
    const { plan, runner } = this
    return new Flow({
      ...{ plan, runner, clock, scripts },
      through: (rows) => this.publish(rows, false),
      failed: (step, n, words) => this.stepFailed(step, n, words),
      guarded: (work) => this.guarded(work),
    })
  }

  /** A message failed in a step: it alone goes no further. Told once for as long as it goes on, and seldom where it comes and goes. */
  private stepFailed(step: number, n: number, words: string | null): void {
    const told = words && `step ${step + 1}, ${stepNames[this.plan.steps![step]!.kind]}: ${words}`
    if (this.inSteps.note(n, told, this.ctx.clock.mono())) this.trouble(new Error(told!), 'step')
  }

  private trouble(e: unknown, where: TroubleIn = 'making'): void {
    this.ctx.trouble(this.plan.publicationId, this.plan.name, e, where)
  }

  /** Resolves when all that it said so far is stored; false: some of it was pushed out. */
  stored(): Promise<boolean> {
    return this.ctx.outbox()?.stored() ?? Promise.resolve(true)
  }

  /** What its steps keep from one message to the next, by place; null: none of them keeps anything. */
  memory(): Map<string, string> | null {
    const all = new Map([...this.runner.memory(), ...(this.flow?.memory() ?? []), ...this.due.memory(), ...(this.rows?.memory() ?? [])])
    return all.size === 0 ? null : all
  }

  /** What they kept before: said before it begins. */
  remember(kept: ReadonlyMap<string, string>): void {
    this.runner.remember(kept)
    this.flow?.remember(kept)
    this.due.remember(kept)
    this.rows?.remember(kept)
  }

  /** Sources in whose rows something is looked up: what they answered last at once, and each answer from now on. */
  private hearLookups(): void {
    const { documents } = this.ctx
    for (const [i, { sourceId }] of (this.plan.lookups ?? []).entries())
      this.stopLookups.push(
        documents.on(sourceId, ({ document, lost }) => {
          this.runner.answered(i, { document, lost: lost === null ? null : lost.message })
          if (this.begun && !this.rows) this.guarded(() => this.due.changed())
        }),
      )
  }

  /** From now on it speaks. */
  begin(): void {
    this.hearLookups()
    const { table } = this.ctx
    this.kinds.begin()
    if (this.rows) return this.beginRows(this.rows)
    for (const h of this.runner.handles) this.runner.touch(h)
    const changed = () => this.due.changed()
    const { hears } = this.runner
    this.unsubscribe = table.onBatch((handles, came) => {
      for (const h of handles) this.runner.touch(h)
      if (hears && came) for (const h of handles) this.runner.came(h)
      this.guarded(changed)
    })
    this.guarded(() => this.due.begin())
    this.begun = true
  }

  /** On change it is its rows that tell when it speaks. */
  private beginRows(rows: RowFeed): void {
    rows.begin()
    if (this.plan.trigger.kind !== 'change') this.guarded(() => this.due.begin())
    this.begun = true
  }

  /** Says how things are, once, because somebody asked for it; gives how many messages went. */
  sayNow(): number {
    let asked = 0
    if (this.rows) return this.rows.all()
    const before = this.producedCount
    this.guarded(() => {
      asked = this.due.byHand()
    })
    const failing = this.failing ?? this.making.words
    if (failing !== null)
      throw fail(409, 'publication.failing', `Its messages can't be made: ${failing}`, 'Correct it and go live again', 'publication')
    // What goes through steps that take their time is on its way.
    return this.flow ? asked : this.producedCount - before
  }

  /** What goes wrong in making its messages is its own trouble. */
  private guarded(work: () => void): void {
    try {
      inCompartment(this.compartment, work)
      this.failing = null
    } catch (e) {
      const words = e instanceof Error ? e.message : String(e)
      if (this.failing === null) this.trouble(e)
      this.failing = words
    }
  }

  /** Writes messages; of rows that came through all steps each right after it was given back. */
  private publish(messages: readonly (number | Row)[], all: boolean): void {
    const outbox = messages.length > 0 ? this.ctx.outbox() : null
    if (!outbox) return
    const { clock, ledger } = this.ctx
    const account = ledger.account(this.plan.delivery)
    const now = clock.wall()
    const madeMono = clock.mono()
    const envelopes: Envelope[] = []
    const { delivery } = this.plan
    const { assurance } = sentAs(this.plan.address)
    const add = (topic: string, packed: Packed, deviceAt: number) => {
      const { seq, turn } = account.next(now)
      const { payload, properties } = packed
      envelopes.push({ delivery, seq, topic, payload, properties, assurance, deviceAt, producedAt: now, turn, madeMono })
    }
    let last: { n: number; message: Addressed; packed: Packed } | null = null
    for (const one of messages) {
      const n = typeof one === 'number' ? one : one.n
      const whole = typeof one === 'number' ? all : one.whole
      try {
        if (typeof one !== 'number') this.runner.give(this.plan.stages!.length - 1, one, now)
        const lost = this.lost(n)
        // Of a device that is dead there is nothing to say until it is back.
        if (lost && this.lostTold.has(n)) continue
        const message = this.runner.encode(n, now, account.numberedThrough + 1, whole)
        if (!message) continue
        if (lost) this.lostTold.add(n)
        else this.lostTold.delete(n)
        const before = message.before?.map((b) => ({ place: b.place, packed: this.pack(message, b.payload, { first: true }) }))
        const packed = this.pack(message, message.payload, lost ? { mark: 'device-lost' } : {})
        demandPlace(message.place)
        // Numbers are given when nothing can go wrong any more.
        for (const b of before ?? []) add(b.place, b.packed, message.at)
        add(message.place, packed, message.at)
        this.kinds.sent(n)
        this.producedCount++
        this.due.spoke(n, madeMono)
        this.making.note(n, null, madeMono)
        last = { n, message, packed }
      } catch (e) {
        if (this.making.note(n, wordsOf(e), madeMono)) this.trouble(e)
      }
    }
    if (last) {
      this.rate.add(envelopes.length, madeMono)
      this.lastAt = now
      outbox.offer(envelopes)
      this.shown.made(envelopes.at(-1)!, last.n, last.message, last.packed)
    }
  }

  private notYet(words: string): void {
    const { clock, notYet } = this.ctx
    const { commands } = this
    const now = clock.mono()
    commands.count++
    if (now - commands.toldAt < COMMANDS_TOLD_MS) return
    notYet(commands.count > 1 ? `${words} (and ${commands.count - 1} more before it)` : words)
    this.commands = { toldAt: now, count: 0 }
  }

  /** Whether a message is about a device that nothing can be read of. */
  private lost(n: number): boolean {
    return this.session !== null && deviceLost(this.runner.cellsOfEquipment[this.plan.messages[n]!.equipment[0]!]!, this.ctx.table)
  }

  /** Takes back what the destination keeps: an empty message in its place. False: it is not stored, and is to be sent again. */
  takeBack(left: readonly LeftBehind[]): Promise<boolean> {
    const outbox = this.ctx.outbox()
    if (!outbox) return Promise.resolve(false)
    const { clock, ledger } = this.ctx
    const account = ledger.account(this.plan.delivery)
    const now = clock.wall()
    const times = { deviceAt: now, producedAt: now, madeMono: clock.mono() }
    outbox.offer(
      left.map(({ place, key }) => ({
        delivery: this.plan.delivery,
        ...account.next(now),
        ...times,
        topic: place,
        payload: '',
        properties: packProperties({ ...nothing, key, kept: true, how: sentAs(this.plan.address).how }),
        assurance: 'acknowledged',
      })),
    )
    return outbox.stored()
  }

  /** Messages that wait for a first value. */
  private held(): number {
    const { clock } = this.ctx
    const now = clock.mono()
    if (!this.waiting || now - this.waiting.at > FRESH_MS) {
      let ready = this.plan.messages.length
      try {
        ready = this.runner.all(this.values, clock.wall()).length
      } catch {
        // What goes wrong in reading its values shows where its messages are made.
      }
      this.waiting = { at: now, held: this.plan.messages.length - ready }
    }
    return this.waiting.held
  }

  present(destination: Condition | null): Condition {
    const { plan, failing, making, inSteps, rows } = this
    const held = this.waiting?.held === 0 ? 0 : this.held()
    const base = { since: this.since, rate: this.rate.perSecond(this.ctx.clock.mono()), last: this.lastAt, hint: '' }
    return publisherCondition({ plan, base, failing, making, inSteps, held, rows }, destination)
  }

  /** How it stands, hop by hop. */
  facts(): SpeakingFact {
    const { plan, ctx, runner, inSteps, making } = this
    const wall = ctx.clock.wall()
    const steps = plan.steps ?? []
    const failing = this.failing ?? making.words
    return {
      trigger: plan.trigger,
      since: this.since,
      last: this.lastAt,
      ready: plan.messages.length - this.held(),
      messages: plan.messages.length,
      ...this.due.facts(wall),
      failing: failing === null ? null : { messages: this.failing === null ? making.size : plan.messages.length, words: failing },
      steps: runner.stepCounts.map((c) => ({ ...c, name: steps[c.step] ? stepNames[steps[c.step]!.kind] : '' })),
      stepTrouble: inSteps.words === null ? null : { count: inSteps.count, words: inSteps.words },
      unanswered: this.rows ? [] : unanswered(plan, runner, ctx.table),
    }
  }

  /** Whether it reads a tag. */
  reads(handle: number): boolean {
    return this.runner.reads(handle)
  }

  /** Messages a second of each kind, over the last half to whole minute. */
  rates(): number[] {
    return this.kinds.perSecond()
  }

  /** It hears and says nothing new any more. */
  stop(): void {
    this.unsubscribe()
    for (const stop of this.stopLookups) stop()
    this.rows?.stop()
    this.kinds.stop()
    this.due.stop()
  }

  /** After `stop`: what is still on its way through the steps goes out; null: nothing is. */
  drain(): Promise<void> | null {
    return this.flow?.drain() ?? null
  }
}
