import type { Cancel, Clock } from '~/engine/clock/clock'

interface Event {
  at: number
  /** Decides among events of one moment. */
  tie: number
  owner: Owner | null
  run: () => void
  off: boolean
}

/** A process in a world: what it planned goes with it. */
export class Owner {
  alive = true
}

/** Time in a world: one queue of events, and nothing happens but them. Times in ms since the world began. */
export class Scheduler {
  now = 0
  private heap: Event[] = []
  events = 0

  constructor(private readonly random: () => number) {}

  private before(a: Event, b: Event): boolean {
    return a.at < b.at || (a.at === b.at && a.tie < b.tie)
  }

  at(time: number, run: () => void, owner: Owner | null = null): Cancel {
    const e: Event = { at: Math.max(time, this.now), tie: this.random(), owner, run, off: false }
    const { heap } = this
    heap.push(e)
    let i = heap.length - 1
    while (i > 0) {
      const parent = (i - 1) >> 1
      if (!this.before(heap[i]!, heap[parent]!)) break
      ;[heap[i], heap[parent]] = [heap[parent]!, heap[i]!]
      i = parent
    }
    return () => {
      e.off = true
    }
  }

  in(ms: number, run: () => void, owner: Owner | null = null): Cancel {
    return this.at(this.now + ms, run, owner)
  }

  private pop(): Event | null {
    const { heap } = this
    const top = heap[0]
    if (!top) return null
    const last = heap.pop()!
    if (heap.length > 0) {
      heap[0] = last
      for (let i = 0; ; ) {
        const left = 2 * i + 1
        let least = i
        if (left < heap.length && this.before(heap[left]!, heap[least]!)) least = left
        if (left + 1 < heap.length && this.before(heap[left + 1]!, heap[least]!)) least = left + 1
        if (least === i) break
        ;[heap[i], heap[least]] = [heap[least]!, heap[i]!]
        i = least
      }
    }
    return top
  }

  /** Lets events happen until `end`, or until `over` says so; after each all promises run to their end. */
  async run(end: number, over: () => boolean = () => false): Promise<void> {
    for (;;) {
      const next = this.heap[0]
      if (!next || next.at > end) break
      this.pop()
      if (next.off || next.owner?.alive === false) continue
      this.now = next.at
      this.events++
      next.run()
      // Promises of this event, and of those that they begin: none of them waits for anything real.
      await new Promise((done) => setImmediate(done))
      if (over()) return
    }
    this.now = Math.max(this.now, end)
  }
}

/** The clock of one machine in a world; `offset` is what its wall clock shows at the beginning, and where it may be set. */
export class SimClock implements Clock {
  constructor(
    private readonly scheduler: Scheduler,
    private readonly owner: Owner,
    private readonly machine: { offset: number },
  ) {}

  wall(): number {
    return Math.floor(this.machine.offset + this.scheduler.now)
  }

  mono(): number {
    return this.scheduler.now
  }

  after(ms: number, then: () => void): Cancel {
    return this.scheduler.in(Math.max(0, ms), then, this.owner)
  }

  every(ms: number, then: () => void): Cancel {
    let cancel: Cancel = () => undefined
    const again = () => {
      cancel = this.scheduler.in(ms, beat, this.owner)
    }
    const beat = () => {
      again()
      then()
    }
    again()
    return () => cancel()
  }

  soon(then: () => void): void {
    this.scheduler.in(0, then, this.owner)
  }
}
