import { disjoint, matches } from '~/core/address/topic-filter'

/** A subscription this young when the link was lost may not have reached the disk of a broker that forgot the last minute, ms. */
const YOUNG_MS = 60_000

/** Which filters the broker has granted in this session, and since when that is sure (monotonic ms). */
export class Coverage {
  private readonly since = new Map<string, number>()
  /** Filters that nobody asks for any more, until what went out under them is judged. */
  private readonly fading = new Set<string>()
  private wanted: string[] = []

  /** What an earlier run wrote: filter and wall time of the grant; `shift` turns wall times into monotonic ones. */
  restore(filters: readonly (readonly [string, number])[], shift: number): void {
    for (const [filter, at] of filters) this.since.set(filter, at === 0 ? Number.NEGATIVE_INFINITY : at + shift)
  }

  /** For the next run: filter and wall time of the grant. */
  written(shift: number): [string, number][] {
    return [...this.since].map(([filter, at]) => [filter, at === Number.NEGATIVE_INFINITY ? 0 : Math.round(at - shift)])
  }

  /** Takes up what is wanted from now on; gives what is to be asked for and what is in its way (matches some of the same topics). */
  want(filters: readonly string[]): { fresh: string[]; stale: string[] } {
    // Asked for before, whether the broker had granted it yet or not: something may still come under it.
    for (const f of [...this.wanted, ...this.since.keys()]) if (!filters.includes(f)) this.fading.add(f)
    for (const f of filters) this.fading.delete(f)
    this.wanted = disjoint([...filters, ...this.fading])
    for (const f of [...this.fading]) if (!this.wanted.includes(f)) this.fading.delete(f)
    return this.due()
  }

  /** What has yet to be said to the broker. */
  due(): { fresh: string[]; stale: string[] } {
    return {
      fresh: this.wanted.filter((f) => !this.since.has(f)),
      stale: [...this.since.keys()].filter((f) => !this.wanted.includes(f)),
    }
  }

  get filters(): readonly string[] {
    return this.wanted
  }

  /** Lets go of filters that nobody asks for and nothing needs any more. */
  release(needed: readonly string[]): boolean {
    const gone = [...this.fading].filter((f) => !needed.includes(f))
    for (const f of gone) this.fading.delete(f)
    if (gone.length > 0) this.wanted = this.wanted.filter((f) => !gone.includes(f))
    return gone.length > 0
  }

  granted(filter: string, now: number): void {
    if (!this.since.has(filter)) this.since.set(filter, now)
  }

  removed(filter: string): void {
    this.since.delete(filter)
  }

  /** The broker has forgotten us. */
  clear(): void {
    this.since.clear()
  }

  /** The link was lost at `lostAt`, and the broker still knows us: what it was told last it may have forgotten all the same. */
  doubtYoung(lostAt: number): void {
    for (const [filter, at] of this.since) if (lostAt - at < YOUNG_MS) this.since.delete(filter)
  }

  /** Since when what goes to a topic is sure to be handed out; Infinity: it is not. */
  coveredSince(topic: string): number {
    let since = Number.POSITIVE_INFINITY
    for (const [filter, at] of this.since) if (at < since && matches(filter, topic)) since = at
    return since
  }
}
