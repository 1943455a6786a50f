import type { Answer } from './driver'

/** A message on its way, as the kind of destination has it. */
export interface Entry<R> {
  /** Its position in the outbox. */
  ordinal: number
  record: R
  octets: number
  answer(a: Answer): void
  /** It goes alone: one of those with it was at fault. */
  alone: boolean
}

export type Sent<R> = Pick<Entry<R>, 'ordinal' | 'record' | 'octets'>

/** A batch whose fate nobody knows: sent again it must be the same, so that the other side knows it again. */
export interface Unsure<R> {
  sequence: number
  batch: readonly Sent<R>[]
}

/** What is kept from one connection to the next: how far batches are counted, and which of them are unsure. */
export interface LaneMemory<R> {
  /** Sequence of the next batch, by place. */
  next: Map<string, number>
  unsure: Map<string, Unsure<R>>
  /** Positions of messages that were kept with their batch when that went again, before they were handed out again; by place. */
  had: Map<string, Set<number>>
}

export const freshMemory = <R>(): LaneMemory<R> => ({ next: new Map(), unsure: new Map(), had: new Map() })

const SEQUENCES = 2 ** 31

/** How much goes in one batch. */
export interface BatchLimits {
  octets: number
  count: number
}

/** Messages of one place, in their order: one batch of them is under way at a time. */
export class BatchLane<R> {
  waiting: Entry<R>[] = []
  flying: readonly Sent<R>[] | null = null
  /** Those of it that wait for an answer: of a batch that goes again not all need have been handed out again. */
  private handed: readonly Entry<R>[] = []
  /** Of the batch that flies. */
  private sequence = 0
  /** It flew before, and may have been kept then. */
  again = false
  private octets = 0
  /** Since when the oldest of them waits, monotonic ms. */
  since = 0

  constructor(
    readonly place: string,
    private readonly memory: LaneMemory<R>,
  ) {}

  add(entry: Entry<R>, now: number): void {
    if (this.waiting.length === 0) this.since = now
    this.waiting.push(entry)
    this.octets += entry.octets
  }

  /** Whether a message is kept already, with a batch that went again before it was handed out again. Asked of each in their order. */
  has(ordinal: number): boolean {
    const had = this.memory.had.get(this.place)
    if (!had) return false
    // What lies before it is not handed out any more.
    for (const o of had) if (o < ordinal) had.delete(o)
    const has = had.delete(ordinal)
    if (had.size === 0) this.memory.had.delete(this.place)
    return has
  }

  /** A batch that is unsure does not go again as it was: each of it goes for itself, and may be kept twice. Gives that batch; null: there is none. */
  dissolve(): readonly Sent<R>[] | null {
    const unsure = this.memory.unsure.get(this.place)
    this.memory.unsure.delete(this.place)
    return unsure?.batch ?? null
  }

  /** Whether a batch is to go now: it is full, the oldest has waited long enough, or one is unsure, which goes first. */
  due(now: number, o: { lingerMs: number; most: BatchLimits }): boolean {
    const [first] = this.waiting
    if (this.flying || !first) return false
    const full = this.octets >= o.most.octets || this.waiting.length >= o.most.count
    return this.memory.unsure.has(this.place) || first.alone || full || now - this.since >= o.lingerMs
  }

  /** Takes the next batch: what is unsure as it was, else as many as fit, one at least; gives its first sequence. */
  take(most: BatchLimits): { entries: readonly Sent<R>[]; sequence: number } {
    const unsure = this.memory.unsure.get(this.place)
    this.again = unsure !== undefined
    this.sequence = unsure?.sequence ?? this.memory.next.get(this.place) ?? 0
    this.flying = unsure?.batch ?? this.fitting(most)
    if (!unsure) this.waiting.splice(0, this.flying.length)
    else this.handed = this.handedOf(unsure.batch)
    this.octets = this.waiting.reduce((sum, { octets }) => sum + octets, 0)
    return { entries: this.flying, sequence: this.sequence }
  }

  private fitting(most: BatchLimits): readonly Entry<R>[] {
    let octets = 0
    let count = 0
    for (const entry of this.waiting) {
      octets += entry.octets
      if (count > 0 && (octets > most.octets || count >= most.count || entry.alone)) break
      count++
      if (entry.alone) break
    }
    this.handed = this.waiting.slice(0, count)
    return this.handed
  }

  /** Those of a batch that have been handed out again, taken from what waits. */
  private handedOf(batch: readonly Sent<R>[]): Entry<R>[] {
    const going = new Set(batch.map(({ ordinal }) => ordinal))
    const handed = this.waiting.filter(({ ordinal }) => going.has(ordinal))
    this.waiting = this.waiting.filter(({ ordinal }) => !going.has(ordinal))
    return handed
  }

  /**
   * The batch that flew has been kept, or of it what `has` says; gives those that wait for an answer. What was not handed out again
   * yet has its answer when it is, or goes again where it was not kept.
   */
  kept(now: number, has: (ordinal: number) => boolean = () => true): readonly Entry<R>[] {
    const { flown, handed } = this.landed(now)
    this.memory.next.set(this.place, (this.sequence + flown.length) % SEQUENCES)
    if (!this.again) return handed
    // Some may have been handed out while it flew.
    const answered = [...handed, ...this.handedOf(flown)]
    const known = new Set(answered.map(({ ordinal }) => ordinal))
    const rest = flown.filter(({ ordinal }) => !known.has(ordinal) && has(ordinal))
    if (rest.length > 0) this.memory.had.set(this.place, new Set([...(this.memory.had.get(this.place) ?? []), ...rest.map((e) => e.ordinal)]))
    this.memory.unsure.delete(this.place)
    return answered
  }

  /** It has not been kept this time; whether it was kept when it flew before is as unsure as it was. */
  failed(now: number): readonly Entry<R>[] {
    return this.landed(now).handed
  }

  /** It is not kept and never will be, whatever became of it when it flew before. */
  refused(now: number): readonly Entry<R>[] {
    this.memory.unsure.delete(this.place)
    return this.failed(now)
  }

  /** Nobody knows whether it has been kept. */
  unknown(now: number): readonly Entry<R>[] {
    const { flown, handed } = this.landed(now)
    const batch = flown.map(({ ordinal, record, octets }): Sent<R> => ({ ordinal, record, octets }))
    if (flown.length > 0) this.memory.unsure.set(this.place, { sequence: this.sequence, batch })
    return handed
  }

  /** Not kept, since one of them is at fault: each goes by itself. */
  apart(now: number): void {
    const flown = this.failed(now)
    this.memory.unsure.delete(this.place)
    for (const entry of flown) {
      entry.alone = true
      this.octets += entry.octets
    }
    this.waiting.unshift(...flown)
  }

  /** All that waits, which does not go. */
  clear(): readonly Entry<R>[] {
    const all = this.waiting
    this.waiting = []
    this.octets = 0
    return all
  }

  private landed(now: number): { flown: readonly Sent<R>[]; handed: readonly Entry<R>[] } {
    const landed = { flown: this.flying ?? [], handed: this.handed }
    this.flying = null
    this.handed = []
    this.since = now
    return landed
  }
}
