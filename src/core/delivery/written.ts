import type { AccountChange, SliceChange } from './account-changes'
import { RangeSet } from './ranges'
import { emptyStanding, oddSets, openSets, type Standing, type Tally, verdicts } from './verdict'

/** What a database holds of one account, in memory: changes are added up and read back as its queries do. For tests. */
export class WrittenAccount {
  readonly slices = new Map<number, SliceChange>()
  private readonly parts = new Map<number, AccountChange['windows'][number]['sets']>()
  total: AccountChange['total'] | null = null

  copy(): WrittenAccount {
    const copy = new WrittenAccount()
    for (const [k, v] of this.slices) copy.slices.set(k, { ...v })
    for (const [k, v] of this.parts) copy.parts.set(k, { ...v })
    copy.total = this.total && { ...this.total }
    return copy
  }

  write(change: AccountChange): void {
    for (const s of change.slices) {
      const sum = this.slices.get(s.start)
      if (!sum) this.slices.set(s.start, { ...s })
      else {
        sum.firstSeq = sum.firstSeq === null ? s.firstSeq : s.firstSeq === null ? sum.firstSeq : Math.min(sum.firstSeq, s.firstSeq)
        sum.produced += s.produced
        sum.foreign += s.foreign
        for (const v of verdicts) sum[v] += s[v]
      }
    }
    for (const m of change.moves) {
      const slice = [...this.slices.values()]
        .filter((s) => s.firstSeq !== null && s.firstSeq <= m.seq)
        .reduce((a, b) => (b.firstSeq! > a.firstSeq! ? b : a))
      if (m.from !== 'waiting') slice[m.from]--
      slice[m.to]++
    }
    for (const o of change.windows) this.parts.set(o.window, { ...o.sets })
    this.total = { ...change.total }
  }

  standing(): Standing {
    const s = emptyStanding()
    if (!this.total) return s
    const { storedThrough, madeAt, turns, acknowledged, foreign, answeredThrough, knownThrough } = this.total
    s.answered.append(1, answeredThrough)
    s.known.append(1, knownThrough)
    for (const [, sets] of [...this.parts].sort(([a], [b]) => a - b)) {
      for (const k of oddSets) for (const [first, last] of RangeSet.parse(sets[k])) s.odd[k].append(first, last)
      for (const k of openSets) for (const [first, last] of RangeSet.parse(sets[k])) s[k].append(Math.max(first, (s[k].max ?? 0) + 1), last)
    }
    const tally = Object.fromEntries(verdicts.map((v) => [v, this.total![v]])) as Tally
    return { ...s, storedThrough, madeAt, turns, acknowledged, foreign, tally }
  }
}
