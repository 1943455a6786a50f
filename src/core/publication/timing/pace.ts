/** How often each message may speak at most, and has to at least, ms; null: no bound. */
export interface PaceSettings {
  mostMs: number | null
  leastMs: number | null
}

/** A moment at which a message is to be looked at again. */
interface Moment {
  at: number
  n: number
  /** Since it is silent; else since it waits. There is one of each for a message at most. */
  silent: boolean
}

/** The moments of many messages, the soonest first. */
class Moments {
  private readonly heap: Moment[] = []

  get first(): Moment | undefined {
    return this.heap[0]
  }

  add(m: Moment): void {
    const { heap } = this
    let i = heap.push(m) - 1
    while (i > 0) {
      const parent = (i - 1) >> 1
      if (heap[parent]!.at <= m.at) break
      heap[i] = heap[parent]!
      i = parent
    }
    heap[i] = m
  }

  take(): Moment {
    const { heap } = this
    const first = heap[0]!
    const last = heap.pop()!
    if (heap.length === 0) return first
    let i = 0
    for (;;) {
      let child = 2 * i + 1
      if (child >= heap.length) break
      if (child + 1 < heap.length && heap[child + 1]!.at < heap[child]!.at) child++
      if (heap[child]!.at >= last.at) break
      heap[i] = heap[child]!
      i = child
    }
    heap[i] = last
    return first
  }
}

/**
 * Keeps each of so many messages between "at most every" and "at least every". What comes too soon is said as soon as it may be,
 * with the values of that moment; who has said nothing for too long says how things are. Times are monotonic, ms.
 */
export class Pace {
  private readonly last: Float64Array
  private readonly waits: Uint8Array
  private readonly moments = new Moments()
  private readonly begun: number

  constructor(
    private readonly settings: PaceSettings,
    count: number,
    /** Since when "at least" counts for who has not spoken yet. */
    mono: number,
  ) {
    this.last = new Float64Array(count).fill(Number.NEGATIVE_INFINITY)
    this.waits = new Uint8Array(count)
    const { leastMs } = settings
    if (leastMs !== null) for (let n = 0; n < count; n++) this.moments.add({ at: mono + leastMs, n, silent: true })
    this.begun = mono
  }

  /** Something has changed for a message: whether it may speak now; else it does so when it may. */
  changed(n: number, mono: number): boolean {
    const { mostMs } = this.settings
    if (mostMs === null) return true
    const at = this.last[n]! + mostMs
    if (at <= mono) return true
    if (this.waits[n] === 0) {
      this.waits[n] = 1
      this.moments.add({ at, n, silent: false })
    }
    return false
  }

  /** It has spoken. */
  spoke(n: number, mono: number): void {
    this.last[n] = mono
    this.waits[n] = 0
  }

  /** Messages that are to speak now, each once: those that have been silent too long, and of the others those that waited for their turn. */
  due(mono: number): { waited: number[]; silent: number[] } {
    const { leastMs } = this.settings
    const waited = new Set<number>()
    const quiet = new Set<number>()
    for (let first = this.moments.first; first && first.at <= mono; first = this.moments.first) {
      const { n, silent } = this.moments.take()
      if (!silent) {
        // It may have spoken meanwhile, since it had been silent, and wait anew.
        if (this.waits[n] === 1 && this.last[n]! + this.settings.mostMs! <= mono) {
          this.waits[n] = 0
          waited.add(n)
        }
        continue
      }
      const at = Math.max(this.begun, this.last[n]!) + leastMs!
      if (at <= mono) quiet.add(n)
      this.moments.add({ at: at <= mono ? mono + leastMs! : at, n, silent: true })
    }
    return { waited: [...waited].filter((n) => !quiet.has(n)), silent: [...quiet] }
  }

  /** When something may be due next, monotonic ms; null: never by itself. */
  get nextAt(): number | null {
    return this.moments.first?.at ?? null
  }
}
