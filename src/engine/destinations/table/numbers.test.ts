import { describe, expect, it } from 'vitest'
import { chance } from '~/core/value/chance'
import { Numbers } from './numbers'

/** Transactions that take numbers and ids as PostgreSQL gives them, and commit in any order or not at all. */
class Table {
  private n = 0
  private xid = 100
  private readonly open = new Map<number, number[]>()
  readonly rows = new Set<number>()

  begin(numbers: number): number {
    const xid = this.xid++
    this.open.set(
      xid,
      Array.from({ length: numbers }, () => ++this.n),
    )
    return xid
  }
  end(xid: number, commits: boolean): void {
    if (commits) for (const n of this.open.get(xid) ?? []) this.rows.add(n)
    this.open.delete(xid)
  }
  get running(): number[] {
    return [...this.open.keys()]
  }
  get snapshot() {
    return { oldest: BigInt(Math.min(this.xid, ...this.open.keys())), next: BigInt(this.xid) }
  }
  /** What a reading gives: those that were left, and at most `limit` new ones. */
  ask(numbers: Numbers, limit: number) {
    const sorted = [...this.rows].sort((a, b) => a - b)
    const old = sorted.filter((n) => numbers.left.some((g) => n >= g.from && n <= g.to))
    const fresh = sorted.filter((n) => n > numbers.through).slice(0, limit)
    return { all: [...new Set([...old, ...fresh])].sort((a, b) => a - b), whole: fresh.length < limit }
  }
}

describe('rows by their number', () => {
  it.each([1, 2, 3, 4, 5])('each is read once whenever it comes to be seen, over restarts too (%i)', (seed) => {
    const random = chance(seed)
    const table = new Table()
    let numbers = new Numbers()
    const read = new Map<number, number>()
    const waiting: number[][] = []
    let now = 0
    const look = () => {
      const { all, whole } = table.ask(numbers, 5)
      numbers.took(all, whole, table.snapshot, now)
      for (const n of all) read.set(n, (read.get(n) ?? 0) + 1)
      if (all.length > 0) waiting.push(all)
    }
    for (let i = 0; i < 3000; i++) {
      now += 50
      const at = random()
      if (at < 0.3) table.begin(1 + Math.floor(random() * 3))
      else if (at < 0.6) {
        const { running } = table
        const one = running[Math.floor(random() * running.length)]
        if (one !== undefined) table.end(one, random() < 0.8)
      } else if (at < 0.9) look()
      else if (at < 0.99) {
        const some = waiting.splice(0, 1)[0]
        if (some) numbers.counted(some)
      } else {
        // What was not counted is read again by the next run, and by that only.
        for (const n of waiting.splice(0).flat()) read.set(n, read.get(n)! - 1)
        numbers = new Numbers(JSON.parse(JSON.stringify(numbers.written())))
      }
    }
    for (const xid of table.running) table.end(xid, true)
    for (let i = 0; i < 2000; i++) {
      now += 50
      look()
    }
    expect([...table.rows].filter((n) => read.get(n) !== 1)).toEqual([])
    expect(read.size).toBe(table.rows.size)
    for (const some of waiting) numbers.counted(some)
    // Numbers that were never used are not asked for, for ever.
    expect(numbers.written()).toEqual({ through: Math.max(...table.rows), left: [] })
  })
})
