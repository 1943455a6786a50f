/** A message on its way, as the order of its topic sees it. */
export interface Passing {
  seq: number
  digest: number
  /** A later message of its topic arrived first. */
  overtaken: boolean
  /** Arrived, refused or dropped: it can't be overtaken any more. */
  gone: boolean
}

/** Digests of arrived messages remembered a topic, to recognise a second copy that carries no id. */
const RECENT = 64

/** The messages of one topic that are on their way, in the order in which they were sent. */
export class TopicOrder<M extends Passing> {
  private items: M[] = []
  private head = 0
  private passed: M[] = []
  private recent: { seq: number; digest: number }[] = []

  get empty(): boolean {
    return this.head === this.items.length && this.passed.length === 0
  }

  add(m: M): void {
    if (m.overtaken) {
      this.passed.push(m)
      return
    }
    const { items } = this
    if (items.length > this.head && items.at(-1)!.seq > m.seq) {
      let i = items.length
      while (i > this.head && items[i - 1]!.seq > m.seq) i--
      items.splice(i, 0, m)
    } else items.push(m)
  }

  /** It arrived: every earlier one that has not is overtaken now, and `overtaken` hears of it. */
  arrived(m: M, overtaken: (m: M) => void): void {
    m.gone = true
    if (m.overtaken) this.forget(m)
    else this.passedBy(m.seq, overtaken)
  }

  /** One of this number arrived, perhaps one that is not on its way any more: it overtakes as any other does. */
  passedBy(seq: number, overtaken: (m: M) => void): void {
    const { items } = this
    while (this.head < items.length && items[this.head]!.seq <= seq) {
      const earlier = items[this.head++]!
      if (earlier.gone) continue
      earlier.overtaken = true
      this.passed.push(earlier)
      overtaken(earlier)
    }
    if (this.head === items.length) {
      items.length = 0
      this.head = 0
    } else if (this.head > 1024 && this.head * 2 > items.length) {
      this.items = items.slice(this.head)
      this.head = 0
    }
  }

  /** It is not on its way any more. */
  forget(m: M): void {
    if (!m.overtaken) return
    const i = this.passed.indexOf(m)
    if (i >= 0) this.passed.splice(i, 1)
  }

  /** Notes a message that arrived or is sent again, for `find`. */
  remember(seq: number, digest: number): void {
    this.recent.push({ seq, digest })
    if (this.recent.length > RECENT * 2) this.recent.splice(0, RECENT)
  }

  /** Whose payload this is: the oldest on its way, else the last arrived of that digest. */
  find(digest: number): number | null {
    for (const m of this.passed) if (m.digest === digest) return m.seq
    for (let i = this.head; i < this.items.length; i++) {
      const m = this.items[i]!
      if (!m.gone && m.digest === digest) return m.seq
    }
    for (let i = this.recent.length - 1; i >= 0; i--) if (this.recent[i]!.digest === digest) return this.recent[i]!.seq
    return null
  }
}
