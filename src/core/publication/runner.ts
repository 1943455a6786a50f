import type { Plan } from '~/contract/publication'
import { kindOf } from '../address/kinds'
import { addressWriter } from '../address/topic-template'
import type { LookedUp, LookupAnswer } from '../rows/looked-up'
import { encoderOf, scopeOf, shapeOf, wholeEvery } from '../shape/registry'
import { type Encoded, type Encoder, type HostFacts, Series } from '../shape/shape'
import type { Cell, ValueArrays } from './cells/cell'
import { lookedUpIn, tablesOf, tickOf } from './cells/maker'
import { type Row, RowValues } from './steps/row'
import type { Look } from './timing/hold'
import { Watch } from './watch'

/** A payload with the address it goes to. */
export interface Addressed extends Omit<Encoded, 'before'> {
  /** What goes before it, each with its place. */
  before: { payload: Encoded['payload']; place: string }[] | undefined
  place: string
  key: string
  headers: [string, string][]
  responseTopic: string
}

type Text = ReturnType<typeof addressWriter>

/** How one message of the plan is written. */
interface Writer {
  encoder: Encoder
  /** How many went since the last whole one; -1: none yet. */
  sinceWhole: number
  place: Text
  key: Text
  headers: [string, Text][]
  responseTopic: Text
}

const noHeaders: [string, string][] = []

/** Messages that a step held back, and those that passed it, since the plan began to run. */
export interface StepCount {
  step: number
  passed: number
  held: number
}

/**
 * A plan made ready to run. The runner only says which message is due and what is in it; numbering and storing are the
 * caller's, and so is the time that stages take: between two of them a message is a row.
 */
export class Runner {
  /** One before each stage, and the last one. */
  private readonly watches: readonly Watch[]
  /** What came out of each stage. */
  private readonly rows: readonly RowValues[]
  private readonly writers: readonly Writer[]
  private readonly every: number
  private readonly besides: (place: string, suffix: string) => string
  private readonly counts = new Map<number, StepCount>()
  /** Rows of sources in which its steps look something up. */
  readonly lookups: readonly LookedUp[]

  constructor(
    readonly plan: Plan,
    host?: HostFacts,
  ) {
    this.every = wholeEvery(plan.shape)
    this.besides = kindOf(plan.address).beside
    this.lookups = lookedUpIn(plan.lookups)
    const how = { tables: tablesOf(plan.tables), lookups: this.lookups, signed: shapeOf(plan.shape).wholes === 'signed-64' }
    const { trigger, speaking, stages = [], equipment, messages } = plan
    const conditions = messages.map(({ condition }) => condition)
    const conditionOf = (s: number, n: number) => (s === 0 && conditions[n] ? { condition: conditions[n] } : {})
    const own = { equipment, messages: messages.map(({ condition: _, ...m }, n) => ({ ...m, ...conditionOf(stages.length, n) })) }
    this.watches = [
      ...stages.map((stage, s) => {
        const parts = messages.map((m, n) => ({ equipment: m.equipment, members: null, steering: [], gates: stage.gates[n]!, ...conditionOf(s, n) }))
        return new Watch(
          {
            ...(s === 0 && { trigger, speaking }),
            equipment: stage.equipment.map((members, e) => ({ id: equipment[e]!.id, members })),
            messages: parts,
          },
          how,
        )
      }),
      new Watch({ ...(stages.length === 0 && { trigger, speaking }), ...own }, how),
    ]
    this.rows = stages.map((stage) => new RowValues(stage))
    for (const watch of this.watches) for (const step of watch.holding) this.counts.set(step, { step, passed: 0, held: 0 })
    const series = new Series()
    const { levels } = kindOf(plan.address)
    this.writers = messages.map((message) => ({
      encoder: encoderOf(plan.shape, scopeOf(plan, message, host, series)),
      sinceWhole: -1,
      place: addressWriter(message.place, levels),
      key: addressWriter(message.key),
      headers: message.headers.map(([name, value]): [string, Text] => [name, addressWriter(value)]),
      responseTopic: addressWriter(message.responseTopic, levels),
    }))
  }

  private get first(): Watch {
    return this.watches[0]!
  }
  private get last(): Watch {
    return this.watches.at(-1)!
  }

  get handles(): readonly number[] {
    return this.first.handles
  }
  /** For each equipment of the plan the cells of its payload, constants too. */
  get cellsOfEquipment(): readonly (readonly Cell[])[] {
    return this.last.cellsOfEquipment
  }
  /** Whether something in it moves by itself. */
  get timed(): boolean {
    return this.first.timed
  }
  /** What each step that may hold messages back did. */
  get stepCounts(): StepCount[] {
    return [...this.counts.values()].sort((a, b) => a.step - b.step)
  }

  /** What its cells keep from one message to the next, by name. */
  memory(): Map<string, string> {
    const out = new Map<string, string>()
    for (const watch of this.watches)
      for (const [name, one] of watch.remembering) {
        const kept = one.memory()
        if (kept !== null) out.set(name, kept)
      }
    return out
  }
  /** What they kept before. */
  remember(kept: ReadonlyMap<string, string>): void {
    for (const watch of this.watches)
      for (const [name, one] of watch.remembering) {
        const before = kept.get(name)
        if (before !== undefined) one.remember(before)
      }
  }

  /** A source in whose rows something is looked up has answered, or does no more. */
  answered(lookup: number, answer: LookupAnswer): void {
    this.lookups[lookup]!.take(answer)
    for (const watch of this.watches) watch.touch(tickOf(lookup))
  }

  touchTimed(): void {
    this.first.touchTimed()
  }
  touch(handle: number): void {
    this.first.touch(handle)
  }
  reads(handle: number): boolean {
    return this.first.reads(handle)
  }
  /** Whether each value that comes in is an event. */
  get hears(): boolean {
    return this.first.hears
  }
  came(handle: number): void {
    this.first.came(handle)
  }
  takeReported(values: ValueArrays, now: number): number[] {
    return this.first.takeReported(values, now)
  }
  looks(values: ValueArrays, now: number): [n: number, look: Look][] {
    return this.first.looks(values, now)
  }
  /** Takes what there is for said: only what changes from now on is news. */
  skip(n: number): void {
    this.first.said(n)
  }
  hasNews(n: number, values: ValueArrays, now: number): boolean {
    return this.first.hasNews(n, values, now)
  }
  hasValues(n: number, values: ValueArrays, now: number): boolean {
    return this.first.hasValues(n, values, now)
  }
  drain(values: ValueArrays, now: number): number[] {
    return this.first.drain(values, now)
  }
  all(values: ValueArrays, now: number): number[] {
    return this.first.all(values, now)
  }

  private passes(watch: Watch, n: number, whole: boolean): boolean {
    if (this.counts.size === 0) return true
    const held = watch.heldBy(n, whole)
    for (const step of watch.holding) {
      const count = this.counts.get(step)!
      if (held === step) {
        count.held++
        break
      }
      count.passed++
    }
    return held === null
  }

  /** A message as last settled on its way into a stage; null: it does not pass. */
  take(stage: number, n: number, whole: boolean, now: number): Row | null {
    const watch = this.watches[stage]!
    watch.refresh(n, now)
    if (!this.passes(watch, n, whole)) return null
    const { cells } = watch.partsOf(n)[0]!
    watch.said(n)
    return {
      n,
      whole,
      values: cells.map((c) => c.value),
      status: cells.map((c) => c.status),
      time: cells.map((c) => c.time),
    }
  }

  /** What came out of a stage: from now on that is what the next one sees of it. */
  give(stage: number, row: Row, now: number): void {
    const values = this.rows[stage]!
    const watch = this.watches[stage + 1]!
    for (const place of values.put(this.plan.messages[row.n]!.equipment[0]!, row)) watch.touch(place)
    watch.settle(values, now)
  }

  /**
   * One message as last settled, with its address; remembers it as the last one sent. Null: nothing to say after all, or it
   * does not pass. `seq` is the number that it gets; `all`: all of it is to be said, though nothing changed.
   */
  encode(n: number, now: number, seq: number, all = false): Addressed | null {
    const { last, every } = this
    last.refresh(n, now)
    if (!this.passes(last, n, all)) return null
    const w = this.writers[n]!
    const whole = all || every === 1 || w.sinceWhole < 0 || (every > 0 && w.sinceWhole + 1 >= every)
    const anything = every === 1 || last.mark(n)
    const encoded = !whole && !anything ? null : w.encoder({ parts: last.partsOf(n), now, seq, whole })
    last.said(n)
    if (!encoded) return null
    w.sinceWhole = whole ? 0 : w.sinceWhole + 1
    const { at } = encoded
    const steering = last.steeringOf(n)
    const text = (t: Text) => (typeof t === 'string' ? t : t((i) => steering[i]?.value, at))
    const place = text(w.place)
    const own = w.headers.length === 0 ? noHeaders : w.headers.map(([name, t]): [string, string] => [name, text(t)])
    return {
      payload: encoded.payload,
      at,
      before: encoded.before?.map((b) => ({ payload: b.payload, place: this.besides(place, b.suffix) })),
      place,
      key: text(w.key),
      headers: encoded.headers ? [...encoded.headers, ...own] : own,
      responseTopic: text(w.responseTopic),
    }
  }
}
