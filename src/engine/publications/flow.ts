import { createHash } from 'node:crypto'
import type { Plan, PlanStage } from '~/contract/publication'
import type { WireScalar } from '~/contract/value'
import type { Runner } from '~/core/publication/runner'
import { outOf } from '~/core/publication/steps/effects'
import type { Row } from '~/core/publication/steps/row'
import { keyPlaces, Window } from '~/core/publication/steps/window'
import { conform } from '~/core/value/datatype'
import { isoOf } from '~/core/value/iso-time'
import { qualityOf, Status } from '~/core/value/quality'
import { fromWire, toWire } from '~/core/value/wire'
import type { Cancel, Clock } from '../clock/clock'
import { problemWords, type Script, type ScriptInput, type ScriptOutcome } from '../scripts/script'
import type { Scripts } from '../scripts/scripts'

type ScriptStage = PlanStage & { work: Extract<PlanStage['work'], { kind: 'script' }> }

export interface FlowOptions {
  plan: Plan
  runner: Runner
  clock: Clock
  scripts: Scripts
  /** Messages came through: each is to be written as soon as it was given to the runner, before the next. */
  through(rows: readonly Row[]): void
  /** A message of a kind failed in a step; null: one of that kind went through again. */
  failed(step: number, n: number, words: string | null): void
  guarded(work: () => void): void
}

const NOTHING = '{}'

export const scriptOf = (code: string): Script => ({ key: createHash('sha256').update(code).digest('base64'), code })

/** So many messages of one publication may be with its scripts. */
const WITH_SCRIPTS_MOST = 1000

/** The times of a row as a script sees them. */
const timeOf = (time: number): string | null => (Number.isFinite(time) && Math.abs(time) <= 8.64e15 ? isoOf(time) : null)

/** What a script is given of a message. */
export function scriptInput(stage: PlanStage, plan: Pick<Plan, 'equipment'>, equipment: number, row: Row, state: string, now: number): ScriptInput {
  const { name, className, path, facts } = plan.equipment[equipment]!
  const message: [string, WireScalar][] = []
  const quality: [string, 'good' | 'uncertain' | 'bad'][] = []
  const time: [string, string | null][] = []
  stage.equipment[equipment]!.forEach(({ key }, i) => {
    message.push([key, toWire(row.values[i]!)])
    quality.push([key, qualityOf(row.status[i]!)])
    time.push([key, timeOf(row.time[i]!)])
  })
  return {
    message: Object.fromEntries(message),
    quality: Object.fromEntries(quality),
    time: Object.fromEntries(time),
    equipment: { name, class: className, path, facts },
    state,
    now,
  }
}

const rank = { good: 0, uncertain: 1, bad: 2 }

/**
 * What came of a message in a script, as a row. What the script left as it was keeps its quality and its time; what it changed or
 * added has the worst quality that had a value, and the newest time. A string: what it gives does not fit.
 */
export function rowAfter(stage: ScriptStage, equipment: number, row: Row, given: Readonly<Record<string, WireScalar>>): Row | string {
  const before = stage.equipment[equipment]!
  const out = outOf(stage.work, before)
  const known = new Set(out.map((m) => m.key))
  const unknown = Object.keys(given).find((key) => !known.has(key))
  if (unknown !== undefined) return `It gives ${unknown.slice(0, 60)}, which is not among what it adds: name it there with its type`
  let worst: number = Status.good
  let newest = Number.NaN
  row.status.forEach((status, i) => {
    if (!(newest >= row.time[i]!)) newest = row.time[i]!
    if (row.values[i] !== null && rank[qualityOf(status)] > rank[qualityOf(worst)]) worst = status
  })
  const after: Row = { n: row.n, whole: row.whole, values: [], status: [], time: [] }
  for (const [i, m] of out.entries()) {
    const was = i < before.length ? row.values[i]! : null
    const wire = Object.hasOwn(given, m.key) ? given[m.key]! : i < before.length ? toWire(was) : null
    const value = fromWire(wire)
    const same = i < before.length && (value === was || (typeof was === 'number' && Number(value) === was))
    const cut = m.dataType === 'integer' && typeof value === 'number' && !Number.isInteger(value)
    const fit = cut ? null : conform(same ? was : value, m.dataType)
    if (fit === null && value !== null) return `It gives ${String(value).slice(0, 40)} as ${m.key}, which is no ${m.dataType}`
    after.values.push(fit)
    after.status.push(same ? row.status[i]! : fit === null ? Status.noData : worst)
    after.time.push(same ? row.time[i]! : newest)
  }
  return after
}

/** Brings the messages of one plan through the steps that take their time, each in the order in which it came. */
export class Flow {
  private readonly windows: (Window | null)[]
  private readonly scripts: (Script | null)[]
  private readonly stages: readonly PlanStage[]
  /** What each script keeps for each equipment, as JSON. */
  private readonly states: Map<number, string>[]
  /** Each equipment by its id, and the how manieth it is that a list was split into. */
  private readonly names: readonly string[]
  private stopTimer: Cancel = () => undefined
  private timerAt = Number.POSITIVE_INFINITY
  /** Messages that are with a script. */
  private underWay = 0
  private idle: (() => void)[] = []
  private stopped = false

  constructor(private readonly o: FlowOptions) {
    this.stages = o.plan.stages ?? []
    const equipmentOf = (n: number) => o.plan.messages[n]!.equipment[0]!
    this.windows = this.stages.map((stage) => (stage.work.kind === 'window' ? new Window(stage.work, keyPlaces(stage, equipmentOf)) : null))
    this.scripts = this.stages.map(({ work }) => (work.kind === 'script' ? scriptOf(work.code) : null))
    this.states = this.stages.map(() => new Map())
    const twins = new Map<string, number>()
    this.names = o.plan.equipment.map(({ id }) => {
      const twin = twins.get(id) ?? 0
      twins.set(id, twin + 1)
      return `${id} ${twin}`
    })
  }

  /** Messages begin their way. */
  offer(messages: readonly number[], whole: boolean): void {
    for (const n of messages) {
      const row = this.o.runner.take(0, n, whole, this.o.clock.wall())
      if (row) this.enter(0, row)
    }
  }

  /** What its scripts keep, by script and equipment. */
  memory(): Map<string, string> {
    const out = new Map<string, string>()
    this.states.forEach((states, s) => {
      for (const [equipment, state] of states) out.set(this.placeOf(s, equipment), state)
    })
    return out
  }
  remember(kept: ReadonlyMap<string, string>): void {
    this.states.forEach((states, s) => {
      if (!this.scripts[s]) return
      for (const e of this.o.plan.equipment.keys()) {
        const before = kept.get(this.placeOf(s, e))
        if (before !== undefined) states.set(e, before)
      }
    })
  }
  /** The how manieth of its scripts it is, so that a script that is mended goes on with what it kept. */
  private placeOf(s: number, equipment: number): string {
    const nth = this.scripts.slice(0, s).filter((one) => one !== null).length
    return `script ${nth} ${this.names[equipment]!}`
  }

  private enter(s: number, row: Row): void {
    const window = this.windows[s]
    if (window) {
      const full = window.offer(row, this.o.clock.mono())
      if (full) this.leave(s, [full])
      else this.arm()
    } else this.script(s, row)
  }

  private leave(s: number, rows: readonly Row[]): void {
    const { runner, clock, through } = this.o
    if (s === this.stages.length - 1) return through(rows)
    for (const row of rows) {
      runner.give(s, row, clock.wall())
      const next = runner.take(s + 1, row.n, row.whole, clock.wall())
      if (next) this.enter(s + 1, next)
    }
  }

  private script(s: number, row: Row): void {
    const { plan, scripts, clock, guarded } = this.o
    const stage = this.stages[s] as ScriptStage
    const equipment = plan.messages[row.n]!.equipment[0]!
    const states = this.states[s]!
    if (this.underWay >= WITH_SCRIPTS_MOST)
      return this.o.failed(stage.step, row.n, `${WITH_SCRIPTS_MOST} messages wait for it: it is too slow for how many there are`)
    this.underWay++
    // What it kept is that of the message before: they go one after the other.
    const turn = this.turnOf(s, equipment).then(() =>
      scripts.run(plan.publicationId, this.scripts[s]!, scriptInput(stage, plan, equipment, row, states.get(equipment) ?? NOTHING, clock.wall())),
    )
    const settled = turn.then(
      (outcome) => guarded(() => this.came(s, stage, equipment, row, outcome)),
      (e: unknown) => this.o.failed(stage.step, row.n, e instanceof Error ? e.message : String(e)),
    )
    this.turns.set(`${s} ${equipment}`, settled)
    void settled.finally(() => {
      this.underWay--
      if (this.turns.get(`${s} ${equipment}`) === settled) this.turns.delete(`${s} ${equipment}`)
      if (this.underWay === 0) for (const tell of this.idle.splice(0)) tell()
    })
  }

  /** The end of the last message of each equipment that is with a script. */
  private readonly turns = new Map<string, Promise<void>>()
  private turnOf(s: number, equipment: number): Promise<void> {
    return this.turns.get(`${s} ${equipment}`) ?? Promise.resolve()
  }

  private came(s: number, stage: ScriptStage, equipment: number, row: Row, outcome: ScriptOutcome): void {
    if (outcome.kind === 'failed') return this.o.failed(stage.step, row.n, problemWords(outcome.problem))
    const after = outcome.kind === 'message' ? rowAfter(stage, equipment, row, outcome.message) : null
    if (typeof after === 'string') return this.o.failed(stage.step, row.n, after)
    this.states[s]!.set(equipment, outcome.state)
    this.o.failed(stage.step, row.n, null)
    if (after) this.leave(s, [after])
  }

  private arm(): void {
    if (this.stopped) return
    const at = Math.min(...this.windows.map((w) => w?.nextAt ?? Number.POSITIVE_INFINITY))
    if (at >= this.timerAt) return
    this.stopTimer()
    this.timerAt = at
    this.stopTimer = this.o.clock.after(Math.max(0, at - this.o.clock.mono()), () => {
      this.timerAt = Number.POSITIVE_INFINITY
      this.windows.forEach((w, s) => {
        if (w) this.o.guarded(() => this.leave(s, w.due(this.o.clock.mono())))
      })
      this.arm()
    })
  }

  /** Nothing comes any more: what is gathered goes on now, and the end of that is when the last of it is through. */
  async drain(): Promise<void> {
    this.stopped = true
    this.stopTimer()
    for (const [s, w] of this.windows.entries()) {
      await this.quiet()
      if (w) this.o.guarded(() => this.leave(s, w.due(0, true)))
    }
    await this.quiet()
  }

  /** Resolves when no message is with a script. */
  quiet(): Promise<void> {
    return this.underWay === 0 ? Promise.resolve() : new Promise((done) => this.idle.push(done))
  }
}
