/** Numbers that are not there (yet), from one to another. */
interface Gap {
  from: number
  to: number
  /** Transactions that have a smaller number were under way when it was first seen. */
  before: bigint
  at: number
}

/** What is written of it, so that the next run goes on there: how far it has read, and which numbers up to there are still to be read. */
export interface Written {
  through: number
  left: readonly (readonly [from: number, to: number])[]
}

/** A number may be taken a moment before its transaction has a number of its own, ms. */
const MOMENT_MS = 5000
const GAPS_MOST = 10_000

/**
 * Which rows of a table have been read, by a number that the table counts up. Numbers are taken before rows are to be seen, and come to
 * be seen in any order, or never: what was passed by is asked for until everything that was under way then has ended.
 */
export class Numbers {
  private gaps: Gap[] = []
  /** Read, and not counted yet. */
  private readonly open = new Set<number>()
  /** The highest that has been read. */
  through: number

  constructor({ through, left }: Written = { through: 0, left: [] }) {
    this.through = through
    // Who was under way when the last run ended, nobody knows.
    this.gaps = left.map(([from, to]) => ({ from, to, before: -1n, at: Number.NEGATIVE_INFINITY }))
  }

  /** What is to be asked for beside what is new. */
  get left(): readonly { from: number; to: number }[] {
    return this.gaps
  }

  /**
   * Takes what was read at once, in order: those that were left, and those that are new. `whole`: nothing new was held back.
   * @param snapshot who was under way then: the oldest, and the first that had not begun
   * @returns whether all that was passed by is still asked for: there may be too much of it
   */
  took(numbers: readonly number[], whole: boolean, snapshot: { oldest: bigint; next: bigint }, now: number): boolean {
    const before = this.through
    const fresh = numbers.filter((n) => n > before)
    const old = new Set(numbers.filter((n) => n <= before))
    if (old.size > 0) this.gaps = this.gaps.flatMap((g) => without(g, old))
    // What was not there, though everything that was under way when it was passed by has ended, will never be.
    this.gaps = this.gaps.filter((g) => {
      if (g.before < 0n) {
        g.before = snapshot.next
        g.at = now
        return true
      }
      return !whole || snapshot.oldest < g.before || now - g.at < MOMENT_MS
    })
    let last = before
    for (const n of fresh) {
      if (n > last + 1) this.gaps.push({ from: last + 1, to: n - 1, before: snapshot.next, at: now })
      last = n
    }
    this.through = last
    for (const n of numbers) this.open.add(n)
    if (this.gaps.length <= GAPS_MOST) return true
    this.gaps.splice(0, this.gaps.length - GAPS_MOST)
    return false
  }

  counted(numbers: readonly number[]): void {
    for (const n of numbers) this.open.delete(n)
  }

  written(): Written {
    const left = [...this.gaps.map((g) => [g.from, g.to] as const), ...[...this.open].map((n) => [n, n] as const)]
    return { through: this.through, left }
  }
}

/** What is left of a gap without these. */
function without(g: Gap, numbers: ReadonlySet<number>): Gap[] {
  if (g.from === g.to) return numbers.has(g.from) ? [] : [g]
  const inside = [...numbers].filter((n) => n >= g.from && n <= g.to).sort((a, b) => a - b)
  const out: Gap[] = []
  let from = g.from
  for (const n of inside) {
    if (n > from) out.push({ ...g, from, to: n - 1 })
    from = n + 1
  }
  if (from <= g.to) out.push({ ...g, from })
  return out
}
