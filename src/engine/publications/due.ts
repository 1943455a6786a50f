import type { Plan } from '~/contract/publication'
import { speaksFirst } from '~/contract/trigger'
import type { ValueArrays } from '~/core/publication/cells/cell'
import type { Runner } from '~/core/publication/runner'
import { firstBeat, nextBeat } from '~/core/publication/timing/beat'
import { Holds } from '~/core/publication/timing/hold'
import { Pace } from '~/core/publication/timing/pace'
import { Schedule } from '~/core/publication/timing/schedule'
import type { Cancel, Clock } from '../clock/clock'
import { Joined } from './joined'

export interface DueOptions {
  plan: Pick<Plan, 'trigger' | 'pace' | 'messages' | 'equipment'>
  runner: Runner
  values: ValueArrays
  clock: Clock
  /** Sends messages; with `whole` all of each, though nothing changed. */
  say(messages: readonly number[], whole: boolean): void
  /** Work that a timer does. */
  guarded(work: () => void): void
}

/** Somebody may set the clock: it is looked at so often at least while a time of a schedule is waited for, ms. */
const CLOCK_LOOK_MS = 20_000

/** What moves by itself is looked at so often, ms. */
const MOVING_MS = 1000

const nothingKept: ReadonlyMap<string, string> = new Map()

const inMs = (s: number | undefined): number | null => (s === undefined ? null : s * 1000)

/** When each message of a plan is due: by the trigger, and by the pace on top of it. */
export class Due {
  private readonly pace: Pace | null
  private readonly holds: Holds | null
  /** Where equipment that joins is an event: what became of that; null: it is none. */
  private readonly joined: Joined | null
  /** Messages of which what is there first is no news. */
  private readonly silentFirst: Set<number>
  /** Messages whose condition counts, and that could not be said yet: something in them has had no value. */
  private readonly owed = new Set<number>()
  private stopBeat: Cancel = () => undefined
  private stopMoment: Cancel = () => undefined
  private stopMoving: Cancel = () => undefined
  private momentAt = Number.POSITIVE_INFINITY
  private stopped = false

  constructor(private readonly o: DueOptions) {
    const { plan, clock } = o
    const { trigger, pace, messages } = plan
    const bounds = { mostMs: inMs(pace?.mostS), leastMs: inMs(pace?.leastS) }
    this.pace = bounds.mostMs === null && bounds.leastMs === null ? null : new Pace(bounds, messages.length, clock.mono())
    this.holds = trigger.kind === 'when' ? new Holds({ holdMs: inMs(trigger.holdS) ?? 0 }, messages.length) : null
    this.joined = trigger.kind === 'event' && trigger.of === 'joined' ? new Joined(plan) : null
    this.silentFirst = new Set(speaksFirst(trigger, pace) ? [] : messages.keys())
  }

  begin(): void {
    const { trigger } = this.o.plan
    this.arm()
    if (this.o.runner.timed) this.stopMoving = this.o.clock.every(MOVING_MS, () => this.o.guarded(() => this.moved()))
    if (trigger.kind === 'schedule') this.scheduled(Schedule.of(trigger.cron, trigger.zone), this.o.clock.wall())
    this.joined?.begin(this.silentFirst.size === 0)
    if (trigger.kind !== 'every') {
      this.changed()
      // By hand, by schedule and by values that come in it may speak at first too.
      const bySomethingElse = trigger.kind === 'hand' || trigger.kind === 'schedule' || (trigger.kind === 'event' && trigger.of === 'value')
      if (bySomethingElse && this.silentFirst.size === 0) this.all()
      return
    }
    const beat = { periodMs: trigger.seconds * 1000, aligned: trigger.aligned ?? false, phaseMs: (trigger.phaseS ?? 0) * 1000 }
    if (this.silentFirst.size === 0) this.all()
    if (!beat.aligned) this.stopBeat = this.o.clock.every(beat.periodMs, () => this.o.guarded(() => this.all()))
    else this.beatAfter(beat, firstBeat(beat, this.o.clock.wall()))
  }

  private beatAfter(beat: Parameters<typeof nextBeat>[0], ms: number): void {
    this.stopBeat = this.o.clock.after(ms, () => {
      if (this.stopped) return
      this.beatAfter(beat, nextBeat(beat, this.o.clock.wall()))
      this.o.guarded(() => this.all())
    })
  }

  /**
   * The next time after that one (epoch ms). A clock that is set forward past some of them makes up for them once; what was said at a
   * time is not said again when the clock is set back.
   */
  private scheduled(schedule: Schedule, after: number): void {
    const { clock, guarded } = this.o
    const at = schedule.next(after)
    if (at === null) return
    const look = () => {
      if (this.stopped) return
      const wall = clock.wall()
      if (wall < at) {
        this.stopBeat = clock.after(Math.min(at - wall, CLOCK_LOOK_MS), look)
        return
      }
      this.scheduled(schedule, Math.max(at, wall))
      guarded(() => this.all())
    }
    look()
  }

  /** What moves by itself may have moved. */
  private moved(): void {
    this.o.runner.touchTimed()
    this.changed()
  }

  /** Tags have new values, which the runner was told of. */
  changed(): void {
    const { plan, runner, values, clock } = this.o
    const { trigger } = plan
    // Expressions that remember see every change, whatever makes the publication speak.
    const news = runner.drain(values, clock.wall())
    if (trigger.kind === 'change') this.offer(this.silentFirst.size === 0 ? news : news.filter((n) => this.isNews(n)))
    else if (trigger.kind === 'when') this.looked(news, trigger.on === 'while')
    else if (trigger.kind === 'event') this.happened(trigger.of, news)
  }

  private happened(of: 'value' | 'record' | 'joined', news: readonly number[]): void {
    const { runner, values, clock } = this.o
    const wall = clock.wall()
    if (of === 'record') this.offer(this.silentFirst.size === 0 ? news : news.filter((n) => this.isNews(n)))
    else if (of === 'value') this.offer(runner.takeReported(values, wall))
    else if (this.joined!.waiting) this.offer(this.joined!.ready((n) => runner.hasValues(n, values, wall)))
  }

  /** What is kept of equipment that has joined, by place. */
  memory(): ReadonlyMap<string, string> {
    return this.joined?.memory() ?? nothingKept
  }

  /** What was kept before: said before it begins. */
  remember(kept: ReadonlyMap<string, string>): void {
    this.joined?.remember(kept)
  }

  /** Whether what a message has to say is more than what was there first. */
  private isNews(n: number): boolean {
    if (!this.silentFirst.delete(n)) return true
    this.o.runner.skip(n)
    return false
  }

  private looked(news: readonly number[], whileOn: boolean): void {
    const { runner, values, clock } = this.o
    const holds = this.holds!
    const due: number[] = []
    for (const [n, look] of runner.looks(values, clock.wall())) {
      // Until it has an answer for the first time nobody knows how it was.
      if (look !== 'between' && this.silentFirst.delete(n) && look === 'holds') holds.assume(n)
      else if (holds.looked(n, look, clock.mono())) due.push(n)
    }
    if (whileOn) for (const n of news) if (holds.on(n)) due.push(n)
    this.begun(due)
    this.arm()
  }

  /** Conditions of these count: each is said as soon as it has all its first values, unless that is over by then. */
  private begun(messages: readonly number[]): void {
    const { runner, values, clock } = this.o
    for (const n of messages) this.owed.add(n)
    const ready: number[] = []
    for (const n of this.owed) {
      const on = this.holds!.on(n)
      if (on && !runner.hasValues(n, values, clock.wall())) continue
      this.owed.delete(n)
      if (on) ready.push(n)
    }
    this.offer(ready)
  }

  /** All that have their first values: by the clock, or by hand. */
  all(): void {
    const { runner, values, clock } = this.o
    this.offer(runner.all(values, clock.wall()))
  }

  /** Once now, whatever the pace. */
  byHand(): number {
    const { runner, values, clock, say } = this.o
    const ready = runner.all(values, clock.wall())
    say(ready, true)
    return ready.length
  }

  private offer(messages: readonly number[]): void {
    const { pace } = this
    if (!pace) return this.o.say(messages, false)
    const mono = this.o.clock.mono()
    this.o.say(
      messages.filter((n) => pace.changed(n, mono)),
      false,
    )
    this.arm()
  }

  /** A message went. */
  spoke(n: number, mono: number): void {
    this.pace?.spoke(n, mono)
    this.joined?.spoke(n)
  }

  private moment(): void {
    const { plan, runner, values, clock, say } = this.o
    const mono = clock.mono()
    const wall = clock.wall()
    if (this.holds) this.begun(this.holds.due(mono))
    if (!this.pace) return
    const { waited, silent } = this.pace.due(mono)
    // What changed there and back again while it waited is no change any more.
    try {
      say(plan.trigger.kind === 'change' ? waited.filter((n) => runner.hasNews(n, values, wall)) : waited, false)
    } finally {
      // That one of the others cannot be made keeps nobody silent.
      say(
        silent.filter((n) => runner.hasValues(n, values, wall)),
        true,
      )
    }
  }

  /** Looks again when the next of them may be due. */
  private arm(): void {
    if (this.stopped) return
    const at = Math.min(this.pace?.nextAt ?? Number.POSITIVE_INFINITY, this.holds?.nextAt ?? Number.POSITIVE_INFINITY)
    if (at >= this.momentAt) return
    this.stopMoment()
    this.momentAt = at
    this.stopMoment = this.o.clock.after(Math.max(0, at - this.o.clock.mono()), () => {
      this.momentAt = Number.POSITIVE_INFINITY
      this.o.guarded(() => this.moment())
      this.arm()
    })
  }

  /** How many conditions count, when a schedule is next (epoch ms), and whether something new is to be said. */
  facts(wall: number): { holding: number | null; next: number | null; news: boolean } {
    const { plan, runner, values } = this.o
    const { trigger, messages } = plan
    const all = [...messages.keys()]
    return {
      holding: this.holds ? all.filter((n) => this.holds!.on(n)).length : null,
      next: trigger.kind === 'schedule' ? Schedule.of(trigger.cron, trigger.zone).next(wall) : null,
      news: all.some((n) => runner.hasNews(n, values, wall)),
    }
  }

  stop(): void {
    this.stopped = true
    this.stopBeat()
    this.stopMoment()
    this.stopMoving()
  }
}
