import { Histogram } from './histogram'

/** The last hour of latencies, one histogram a minute. */
export class LatencyHour {
  readonly minutes = new Map<number, Histogram>()

  add(ms: number, now: number): void {
    const minute = Math.floor(now / 60_000)
    let h = this.minutes.get(minute)
    if (!h) {
      h = new Histogram()
      this.minutes.set(minute, h)
      for (const m of this.minutes.keys()) if (m < minute - 60) this.minutes.delete(m)
    }
    h.add(ms)
  }

  total(): Histogram {
    const all = new Histogram()
    for (const h of this.minutes.values()) all.merge(h)
    return all
  }
}
