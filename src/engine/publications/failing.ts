/** What goes wrong is told so often at most, ms. */
const TOLD_MS = 10_000

/** Messages that cannot be made, and why: each is so until it could be, whatever becomes of others. */
export class Failing {
  private readonly why = new Map<number, string>()
  private toldAt = Number.NEGATIVE_INFINITY
  count = 0

  /** Null: it could be made. Gives whether this is to be told now: it is news, and the last was told a while ago. */
  note(n: number, words: string | null, mono: number): boolean {
    if (words === null) {
      this.why.delete(n)
      return false
    }
    const known = [...this.why.values()].includes(words)
    this.why.set(n, words)
    this.count++
    if (known || mono - this.toldAt < TOLD_MS) return false
    this.toldAt = mono
    return true
  }

  /** How many fail now. */
  get size(): number {
    return this.why.size
  }

  /** Why one of them fails; null: none does. */
  get words(): string | null {
    for (const words of this.why.values()) return words
    return null
  }
}
