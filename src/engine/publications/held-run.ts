import type { Plan } from '~/contract/publication'
import { Runner } from '~/core/publication/runner'
import type { Row } from '~/core/publication/steps/row'
import type { Moment } from '~/core/recording/block'
import type { LookupAnswer } from '~/core/rows/looked-up'
import type { HostFacts } from '~/core/shape/shape'
import { HeldClock } from '../clock/held-clock'
import type { LiveTable } from '../live/table'
import type { Scripts } from '../scripts/scripts'
import { octets } from './compress'
import { Due } from './due'
import { Flow } from './flow'
import { packer } from './message'

/** A message that a publication would have sent. */
export interface Made {
  /** Its place among the messages of the plan. */
  n: number
  /** Epoch ms. */
  at: number
  place: string
  payload: Uint8Array
  headers: readonly [string, string][]
  /** What travels beside the payload, as the outbox keeps it. */
  properties: string
}

export interface HeldRunOptions {
  plan: Plan
  /** What its tags hold when it begins; it goes with them. */
  table: LiveTable
  scripts: Scripts
  host: HostFacts
  /** What the sources answered last in whose rows something is looked up: it stands for what they answered then. */
  answers?: readonly LookupAnswer[]
  /** Epoch ms. */
  from: number
  made(m: Made): void
}

/** A publication, run over a clock that somebody holds: the same runner, triggers and steps as when it is live, and nothing goes out. */
export class HeldRun {
  readonly problems = new Set<string>()
  readonly clock: HeldClock
  private readonly runner: Runner
  private readonly due: Due
  private readonly flow: Flow | null
  private readonly pack: ReturnType<typeof packer>
  private heard = false
  private count = 0

  constructor(private readonly o: HeldRunOptions) {
    const { plan, table, host, scripts } = o
    const clock = (this.clock = new HeldClock(o.from))
    this.runner = new Runner(plan, host)
    for (const [i, answer] of (o.answers ?? []).entries()) this.runner.answered(i, answer)
    this.pack = packer(plan)
    for (const h of this.runner.handles) table.ensure(h)
    const guarded = (work: () => void) => this.guarded(work)
    this.due = new Due({
      ...{ plan, runner: this.runner, values: table, clock, guarded },
      say: (messages, whole) => {
        if (!this.heard) return
        if (this.flow) this.flow.offer(messages, whole)
        else this.publish(messages, whole)
      },
    })
    this.flow =
      (plan.stages ?? []).length === 0
        ? null
        : new Flow({
            ...{ plan, runner: this.runner, clock, scripts, guarded },
            through: (rows) => this.publish(rows, false),
            failed: (step, _n, words) => words !== null && this.problems.add(`step ${step + 1}: ${words}`),
          })
  }

  /** Tags that it reads, by handle. */
  get handles(): readonly number[] {
    return this.runner.handles
  }

  private guarded(work: () => void): void {
    try {
      work()
    } catch (e) {
      this.problems.add(e instanceof Error ? e.message : String(e))
    }
  }

  /** What there is when it begins is not sent: it was sent before, or is among what follows. */
  async begin(): Promise<void> {
    for (const h of this.runner.handles) this.runner.touch(h)
    this.guarded(() => this.due.begin())
    await this.quiet()
    this.heard = true
  }

  async changed({ at, came, handles, values, statuses, times }: Moment): Promise<void> {
    await this.passTo(at)
    this.o.table.apply({ handles, values, statuses, times })
    for (const h of handles) {
      this.runner.touch(h)
      if (came) this.runner.came(h)
    }
    this.guarded(() => this.due.changed())
    await this.quiet()
  }

  async passTo(at: number): Promise<void> {
    this.clock.pass(Math.max(0, at - this.clock.wall()))
    await this.quiet()
  }

  private async quiet(): Promise<void> {
    await this.flow?.quiet()
  }

  private publish(all: readonly (number | Row)[], whole: boolean): void {
    const { runner, clock, pack } = this
    const now = clock.wall()
    for (const one of all) {
      const n = typeof one === 'number' ? one : one.n
      if (typeof one !== 'number') runner.give(this.o.plan.stages!.length - 1, one, now)
      const message = runner.encode(n, now, this.count + 1, typeof one === 'number' ? whole : one.whole)
      if (!message) continue
      this.count++
      this.due.spoke(n, clock.mono())
      const { payload, properties } = pack(message)
      this.o.made({ n, at: now, place: message.place, payload: octets(payload), headers: message.headers, properties })
    }
  }

  async end(at: number): Promise<void> {
    await this.passTo(at)
    this.due.stop()
    await this.flow?.drain()
  }
}
