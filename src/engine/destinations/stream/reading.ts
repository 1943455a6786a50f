/** What is written of a partition, so that another witness goes on there: the first offset that is not counted, and those behind it that are. */
export type WrittenPlace = [next: number, counted: number[]]

/**
 * How far one partition has been read. What was seen is counted at once or a little later, in any order: only what was counted is
 * passed over by whoever goes on from here.
 */
export class Reading {
  /** Offset of the next record that is asked for. */
  next: number
  private readonly pending = new Set<number>()
  /** Counted, though something before them is not. */
  private readonly counted: Set<number>
  /** Since when all that had been kept by then has come, monotonic ms. */
  throughAt = Number.NEGATIVE_INFINITY

  constructor(
    public leader: number,
    [next, counted]: WrittenPlace,
  ) {
    this.next = next
    this.counted = new Set(counted)
  }

  /** Whether a record is to be told of; it may have been counted by an earlier witness. */
  sees(offset: number): boolean {
    // A node may hand out whole batches, from before what was asked for.
    if (offset < this.next) return false
    this.next = offset + 1
    if (this.counted.has(offset)) return false
    this.pending.add(offset)
    return true
  }

  counts(offset: number): void {
    if (!this.pending.delete(offset)) return
    if (this.first() < offset) this.counted.add(offset)
    else for (const before of this.counted) if (before < this.first()) this.counted.delete(before)
  }

  /** Goes on elsewhere: what lay between is gone. */
  jump(to: number): void {
    this.next = Math.max(this.next, to)
    for (const offset of this.counted) if (offset < to) this.counted.delete(offset)
  }

  /** Goes on at an offset, also an earlier one: what lay behind it is no more, and others come there. */
  restart(at: number): void {
    this.next = at
    this.pending.clear()
    this.counted.clear()
  }

  written(): WrittenPlace {
    const first = this.first()
    return [first, [...this.counted].filter((offset) => offset >= first)]
  }

  /** The first offset that is not counted. */
  private first(): number {
    const [oldest] = this.pending
    return oldest ?? this.next
  }
}
