/** Thrown when text is no multirange. */
export class RangeSyntaxError extends Error {}

/**
 * A set of whole numbers kept as runs, so that it grows with gaps and not with members.
 * Numbers mostly arrive in order: adding at the end is constant time, elsewhere a binary search.
 */
export class RangeSet {
  private starts: number[] = []
  private ends: number[] = []
  private size = 0

  /** How many numbers are in it. */
  get count(): number {
    return this.size
  }

  /** How many runs it takes. */
  get runs(): number {
    return this.starts.length
  }

  get max(): number | null {
    return this.ends.at(-1) ?? null
  }

  /** Index of the last run that starts at or before n, or -1. */
  private runBefore(n: number): number {
    let low = 0
    let high = this.starts.length
    while (low < high) {
      const mid = (low + high) >>> 1
      if (this.starts[mid]! <= n) low = mid + 1
      else high = mid
    }
    return low - 1
  }

  has(n: number): boolean {
    const i = this.runBefore(n)
    return i >= 0 && n <= this.ends[i]!
  }

  /** Adds one; false when it was there already. */
  add(n: number): boolean {
    const top = this.ends.length - 1
    if (top >= 0 && n === this.ends[top]! + 1) {
      this.ends[top] = n
      this.size++
      return true
    }
    const i = top < 0 || n > this.ends[top]! ? top : this.runBefore(n)
    if (i >= 0 && n <= this.ends[i]!) return false
    const joinsLeft = i >= 0 && this.ends[i] === n - 1
    const joinsRight = this.starts[i + 1] === n + 1
    if (joinsLeft && joinsRight) {
      this.ends[i] = this.ends[i + 1]!
      this.starts.splice(i + 1, 1)
      this.ends.splice(i + 1, 1)
    } else if (joinsLeft) this.ends[i] = n
    else if (joinsRight) this.starts[i + 1] = n
    else {
      this.starts.splice(i + 1, 0, n)
      this.ends.splice(i + 1, 0, n)
    }
    this.size++
    return true
  }

  /** Takes one out; false when it wasn't there. */
  delete(n: number): boolean {
    const i = this.runBefore(n)
    if (i < 0 || n > this.ends[i]!) return false
    const start = this.starts[i]!
    const end = this.ends[i]!
    if (start === end) {
      this.starts.splice(i, 1)
      this.ends.splice(i, 1)
    } else if (n === start) this.starts[i] = n + 1
    else if (n === end) this.ends[i] = n - 1
    else {
      this.ends[i] = n - 1
      this.starts.splice(i + 1, 0, n + 1)
      this.ends.splice(i + 1, 0, end)
    }
    this.size--
    return true
  }

  /** Adds every number from `first` to `last`; only above all that is in it. */
  append(first: number, last: number): void {
    if (last < first) return
    const top = this.ends.length - 1
    if (top >= 0 && first <= this.ends[top]!) throw new RangeError('append only above the highest number')
    if (top >= 0 && first === this.ends[top]! + 1) this.ends[top] = last
    else {
      this.starts.push(first)
      this.ends.push(last)
    }
    this.size += last - first + 1
  }

  /** Those between `first` and `last`, in the text form of `toString`. */
  within(first: number, last: number): string {
    let text = ''
    if (last < first) return '{}'
    for (let i = Math.max(0, this.runBefore(first)); i < this.starts.length && this.starts[i]! <= last; i++) {
      if (this.ends[i]! < first) continue
      text += `${text ? ',' : ''}[${Math.max(first, this.starts[i]!)},${Math.min(last, this.ends[i]!) + 1})`
    }
    return `{${text}}`
  }

  /** The runs, first and last included. */
  *[Symbol.iterator](): Generator<readonly [number, number]> {
    for (let i = 0; i < this.starts.length; i++) yield [this.starts[i]!, this.ends[i]!]
  }

  /** PostgreSQL's int8multirange text, canonical: `{[1,5),[7,8)}`. */
  toString(): string {
    let text = ''
    for (let i = 0; i < this.starts.length; i++) text += `${i ? ',' : ''}[${this.starts[i]},${this.ends[i]! + 1})`
    return `{${text}}`
  }

  /** Where the gapless run that begins at 1 ends; 0: there is none. */
  get through(): number {
    return this.starts[0] === 1 ? this.ends[0]! : 0
  }

  /** Reads what `toString` writes, however long it is. */
  static parse(text: string): RangeSet {
    const set = new RangeSet()
    const wrong = () => new RangeSyntaxError(`not a multirange: ${text.slice(0, 40)}`)
    if (text.length < 2 || text[0] !== '{' || text.at(-1) !== '}') throw wrong()
    for (let at = 1; at < text.length - 1; ) {
      const close = text.indexOf(')', at)
      const comma = text.indexOf(',', at)
      if (close < 0 || comma < 0 || comma > close || text[at] !== '[') throw wrong()
      const [low, high] = [text.slice(at + 1, comma), text.slice(comma + 1, close)]
      if (!/^\d+$/.test(low) || !/^\d+$/.test(high)) throw wrong()
      const start = Number(low)
      const end = Number(high) - 1
      const last = set.ends.at(-1)
      if (end < start || (last !== undefined && start <= last + 1)) throw new RangeSyntaxError('runs out of order')
      set.starts.push(start)
      set.ends.push(end)
      set.size += end - start + 1
      at = close + 1
      if (at === text.length - 1) break
      if (text[at] !== ',' || at + 1 === text.length - 1) throw wrong()
      at++
    }
    return set
  }
}
