import { Worker } from 'node:worker_threads'
import { fail } from '~/contract/failure'
import type { Cancel, Clock } from '../clock/clock'
import { wordsOf } from '../log'
import { Sandbox } from './sandbox'
import { bounds, type Script, type ScriptInput, type ScriptOutcome, type ScriptProblem } from './script'
import type { FromScripts, ToScripts } from './script-thread'

/** Whoever runs scripts. Runs of one lane come back in their order. */
export interface Scripts {
  run(lane: string, script: Script, input: ScriptInput): Promise<ScriptOutcome>
  /** What is wrong with a script as it is written; null: nothing. */
  check(script: Script): Promise<ScriptProblem | null>
  stop(): void
}

/** Runs them in this thread: for programs that have no bundle of the other. */
export function scriptsHere(): Scripts {
  let sandbox: Promise<Sandbox> | null = null
  const box = () => (sandbox ??= Sandbox.open())
  return {
    run: async (_, script, input) => (await box()).run(script, input),
    check: async (script) => (await box()).check(script),
    stop: () => undefined,
  }
}

/** So many runs of one lane may wait for their turn; past it the oldest is given up. */
const WAITING_MOST = 1000
/** So many are with the thread at a time, and so many of one lane. */
const UNDER_WAY = 32
const UNDER_WAY_OF_ONE = 8
/** The thread is looked at so often while it works, ms. */
const LOOK_MS = 250
/** A thread that ended by itself is followed by another at most so often, ms. */
const AGAIN_MS = 1000
/** A script that ended its thread so often within so long, ms, is not begun again before that is over. */
const ENDS_MOST = 3
const ENDS_MS = 600_000
/** A thread that has not begun with anything may take so many times as long as a run. */
const TO_BEGIN = 6

interface Job {
  id: number
  lane: string
  script: Script
  /** Null: it is only checked. */
  input: ScriptInput | null
  done(outcome: ScriptOutcome): void
  checked(problem: ScriptProblem | null): void
  failed(e: Error): void
}

const over: ScriptProblem = { message: `It did not end within ${bounds.wallMs / 1000} s`, line: null, column: null }
const tooOften: ScriptProblem = {
  message: `It did not end within ${bounds.wallMs / 1000} s, ${ENDS_MOST} times: it is begun again ${ENDS_MS / 60_000} min after that, or when it is changed`,
  line: null,
  column: null,
}
const tooMany: ScriptProblem = {
  message: `More than ${WAITING_MOST} messages wait for it: it is too slow for how many there are`,
  line: null,
  column: null,
}

/** Runs scripts in a thread of their own, the lanes in turn. A run that does not end is ended with the thread; the others are begun again in the next. */
export class ThreadedScripts implements Scripts {
  private worker: Worker | null = null
  private readonly at = new Int32Array(new SharedArrayBuffer(4))
  private next = 1
  private readonly waiting = new Map<string, Job[]>()
  private readonly underWay = new Map<number, Job>()
  private stopLooks: Cancel = () => undefined
  private looking = false
  /** Which job the thread was at when it was looked at, and how often: a machine that stood still is no script that does. */
  private seen = { id: 0, looks: 0 }
  private begunAt = Number.NEGATIVE_INFINITY
  private stopAgain: Cancel = () => undefined
  private stopped = false
  /** How often a thread ended one after the other without having done anything. */
  private fruitless = 0
  /** How often each script ended its thread, and when last. */
  private readonly ends = new Map<string, { count: number; at: number }>()

  constructor(
    private readonly program: URL | string,
    private readonly clock: Clock,
    private readonly wallMs = bounds.wallMs,
  ) {}

  run(lane: string, script: Script, input: ScriptInput): Promise<ScriptOutcome> {
    return new Promise((done, failed) => this.add({ id: 0, lane, script, input, done, checked: () => undefined, failed }))
  }

  check(script: Script): Promise<ScriptProblem | null> {
    return new Promise((checked, failed) =>
      this.add({ id: 0, lane: 'checks', script, input: null, done: ({ ...o }) => checked('problem' in o ? o.problem : null), checked, failed }),
    )
  }

  private add(job: Job): void {
    if (this.stopped) return job.failed(fail(503, 'engine.stops', 'The engine stops', 'It is tried again by itself', 'engine'))
    const lane = this.waiting.get(job.lane)
    if (!lane) this.waiting.set(job.lane, [job])
    else {
      lane.push(job)
      if (lane.length > WAITING_MOST) lane.shift()!.done({ kind: 'failed', problem: tooMany, console: [] })
    }
    this.go()
  }

  /** Hands jobs to the thread, one lane after the other. */
  private go(): void {
    if (this.stopped) return
    const of = new Map<string, number>()
    for (const { lane } of this.underWay.values()) of.set(lane, (of.get(lane) ?? 0) + 1)
    for (let more = true; more && this.underWay.size < UNDER_WAY; ) {
      more = false
      for (const [lane, jobs] of [...this.waiting]) {
        const busy = of.get(lane) ?? 0
        if (busy >= UNDER_WAY_OF_ONE || this.underWay.size >= UNDER_WAY) continue
        const job = jobs.shift()!
        if (jobs.length === 0) this.waiting.delete(lane)
        of.set(lane, busy + 1)
        more = true
        this.give(job)
      }
    }
  }

  private give(job: Job): void {
    const ends = this.ends.get(job.script.key)
    if (ends && this.clock.mono() - ends.at > ENDS_MS) this.ends.delete(job.script.key)
    else if (ends && ends.count >= ENDS_MOST) {
      job.done({ kind: 'failed', problem: tooOften, console: [] })
      return this.clock.soon(() => this.go())
    }
    job.id = this.next
    // What the thread writes where it is has 32 bits.
    this.next = this.next === 0x7fffffff ? 1 : this.next + 1
    this.underWay.set(job.id, job)
    const worker = this.begin()
    if (worker) this.post(worker, job)
  }

  private post(worker: Worker, { id, script: { key, code }, input }: Job): void {
    const m: ToScripts = input ? { kind: 'run', id, key, code, input } : { kind: 'check', id, key, code }
    worker.postMessage(m)
    this.look()
  }

  private begin(): Worker | null {
    if (this.worker) return this.worker
    const wait = this.begunAt + AGAIN_MS - this.clock.mono()
    if (wait > 0) {
      this.stopAgain()
      this.stopAgain = this.clock.after(wait, () => this.again())
      return null
    }
    this.begunAt = this.clock.mono()
    const worker = new Worker(this.program, { workerData: { at: this.at.buffer } })
    worker.on('message', (m: FromScripts) => {
      if (this.worker !== worker) return
      this.fruitless = 0
      const job = this.underWay.get(m.id)
      if (!job) return
      this.underWay.delete(m.id)
      if (m.kind === 'ran') job.done(m.outcome)
      else job.checked(m.problem)
      this.go()
    })
    const gone = (words: string) => {
      if (this.worker === worker) this.ended(`Its thread ended: ${words}`)
    }
    worker.on('error', (e) => gone(wordsOf(e)))
    worker.on('exit', () => gone('it is not known why'))
    worker.unref()
    return (this.worker = worker)
  }

  /** Looks whether the thread gets on, as long as it has something to do. */
  private look(): void {
    if (this.looking) return
    this.looking = true
    this.seen = { id: 0, looks: 0 }
    this.stopLooks = this.clock.every(LOOK_MS, () => {
      const id = Atomics.load(this.at, 0)
      if (this.underWay.size === 0) {
        this.looking = false
        this.stopLooks()
        return
      }
      this.seen = { id, looks: id === this.seen.id ? this.seen.looks + 1 : 0 }
      const most = this.underWay.has(id) ? this.wallMs : this.wallMs * TO_BEGIN
      if (this.seen.looks * LOOK_MS >= most) this.ended(over.message)
    })
  }

  /** The thread is gone, or is to be: the run that it was at has failed, the others are begun again. */
  private ended(words: string): void {
    const worker = this.worker
    this.worker = null
    void worker?.terminate()
    this.looking = false
    this.stopLooks()
    const culprit = this.underWay.get(Atomics.load(this.at, 0))
    if (culprit) {
      this.underWay.delete(culprit.id)
      const { key } = culprit.script
      this.ends.set(key, { count: (this.ends.get(key)?.count ?? 0) + 1, at: this.clock.mono() })
      culprit.done({ kind: 'failed', problem: { message: words, line: null, column: null }, console: [] })
    } else if (++this.fruitless >= ENDS_MOST) {
      // It is not a script's doing: nobody waits for what does not come.
      for (const job of this.underWay.values()) job.done({ kind: 'failed', problem: { message: words, line: null, column: null }, console: [] })
      this.underWay.clear()
    }
    this.again()
  }

  private again(): void {
    if (this.stopped) return
    if (this.underWay.size === 0) return this.go()
    const worker = this.begin()
    if (!worker) return
    for (const job of this.underWay.values()) this.post(worker, job)
  }

  stop(): void {
    this.stopped = true
    this.stopLooks()
    this.stopAgain()
    void this.worker?.terminate()
    this.worker = null
    const failure = fail(503, 'engine.stops', 'The engine stops', 'It is tried again by itself', 'engine')
    for (const job of [...this.underWay.values(), ...[...this.waiting.values()].flat()]) job.failed(failure)
    this.underWay.clear()
    this.waiting.clear()
  }
}
