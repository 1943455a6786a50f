import { fail } from '~/contract/failure'
import type { Envelope } from '~/core/delivery/envelope'
import type { Hops } from '~/core/delivery/hops'
import { parseRanges } from '~/core/delivery/segment'
import type { Item, Segment } from './segment-state'

/** An outbox, as who looks into it sees it. */
export interface InsideOf {
  segments(): readonly Segment[]
  /** Messages of a segment, none when it is damaged; null: they cannot be read just now. */
  itemsOf(segment: Segment): Promise<readonly Item[] | null>
  /** Whether a message was handed to who sends, and no answer is known. */
  onTheWire(item: Item): boolean
  giveUp(item: Item): void
  /** Does work on what waits while nobody else gives up any of it. */
  inTurn(work: () => Promise<void>): Promise<void>
}

/** Looks into an outbox: messages that wait are listed, opened, and given up as somebody says. */
export class Inside {
  constructor(private readonly o: InsideOf) {}

  /** Messages that wait, in their order, from the `from`th on; those that are on their way to the disk are not among them. */
  async look(from: number, most: number): Promise<Envelope[]> {
    const out: Envelope[] = []
    let skip = from
    for (const segment of [...this.o.segments()]) {
      if (out.length >= most) break
      const left = segment.count - segment.doneCount
      if (left <= skip) {
        skip -= left
        continue
      }
      for (const item of await this.readNow(segment)) {
        if (segment.done[item.index] === 1 || skip-- > 0) continue
        out.push(item.envelope)
        if (out.length >= most) break
      }
      skip = Math.max(0, skip)
    }
    return out
  }

  /** When a message that has not left for the journal came past each hop; null: nothing is known of it. */
  hopsOf(segment: number, index: number): Hops | null {
    return (
      this.o
        .segments()
        .find((s) => s.no === segment)
        ?.hopsAt(index) ?? null
    )
  }

  /** One of them by its number; null: it does not wait, or cannot be read now. */
  async lookAt(delivery: number, seq: number): Promise<Envelope | null> {
    const items = await this.waitingIn((d, first, last) => d === delivery && seq >= first && seq <= last)
    return items.find(({ envelope: e }) => e.delivery === delivery && e.seq === seq)?.envelope ?? null
  }

  /** Gives up what `take` wants of what waits, but nothing that is on the wire; gives how many that were. */
  async clear(take: (e: Envelope) => boolean, concerned: (delivery: number, first: number, last: number) => boolean = () => true): Promise<number> {
    let count = 0
    await this.o.inTurn(async () => {
      for (const item of await this.waitingIn(concerned)) {
        if (item.segment.done[item.index] === 1 || this.o.onTheWire(item) || !take(item.envelope)) continue
        this.o.giveUp(item)
        count++
      }
    })
    return count
  }

  private async waitingIn(concerned: (delivery: number, first: number, last: number) => boolean): Promise<Item[]> {
    const out: Item[] = []
    for (const segment of [...this.o.segments()]) {
      if (segment.finished || !parseRanges(segment.ranges).some(([d, first, last]) => concerned(d, first, last))) continue
      for (const item of await this.readNow(segment)) if (segment.done[item.index] === 0) out.push(item)
    }
    return out
  }

  /** Its messages, none when they are damaged; throws when they cannot be read just now. */
  private async readNow(segment: Segment): Promise<readonly Item[]> {
    const items = await this.o.itemsOf(segment)
    if (items) return items
    throw fail(503, 'outbox.unread', 'What waits cannot be read now: the database does not answer', 'Nothing was given up; try again', 'outbox')
  }
}
