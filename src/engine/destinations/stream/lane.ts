import type { Answer, Outgoing } from '../driver'
import type { SentRecord } from './cluster'

/** A message on its way, as a record of a partition. */
export interface Entry {
  m: Outgoing
  record: SentRecord
  octets: number
  answer(a: Answer): void
  /** It goes alone: one of those with it was at fault. */
  alone: boolean
}

/** A batch whose fate nobody knows: sent again it must be the same, so that the cluster knows it again. */
export interface Unsure {
  sequence: number
  ordinals: readonly number[]
}

/** What is kept from one connection to the next: as whom batches are counted, how far, and which of them are unsure. */
export interface ProducerMemory {
  producer: { id: bigint; epoch: number } | null
  /** Sequence of the next batch, by place. */
  next: Map<string, number>
  unsure: Map<string, Unsure>
}

const SEQUENCES = 2 ** 31

/** Messages for one partition, in their order: one batch of them is under way at a time. */
export class PartitionLane {
  readonly place: string
  waiting: Entry[] = []
  flying: Entry[] | null = null
  /** Of the batch that flies. */
  private sequence = 0
  /** It flew before, and may have been kept then. */
  again = false
  private octets = 0
  /** Since when the oldest of them waits, monotonic ms. */
  since = 0

  constructor(
    readonly topic: string,
    readonly partition: number,
    private readonly memory: ProducerMemory,
  ) {
    this.place = placeOf(topic, partition)
  }

  add(entry: Entry, now: number): void {
    if (this.waiting.length === 0) this.since = now
    this.waiting.push(entry)
    this.octets += entry.octets
  }

  /** Whether what was unsure can be sent again as it was; `wait`: not all of it has come. */
  private repeatable(): 'none' | 'whole' | 'wait' | 'other' {
    const unsure = this.memory.unsure.get(this.place)
    if (!unsure) return 'none'
    for (const [i, ordinal] of unsure.ordinals.entries()) {
      const entry = this.waiting[i]
      if (!entry) return 'wait'
      if (entry.m.ordinal !== ordinal) return 'other'
    }
    return 'whole'
  }

  /** Whether a batch is to go now: it is full, or the oldest has waited long enough. `broken`: it can never go as it must. */
  due(now: number, o: { lingerMs: number; most: number; patienceMs: number }): 'now' | 'wait' | 'broken' {
    if (this.flying || this.waiting.length === 0) return 'wait'
    const repeatable = this.repeatable()
    if (repeatable === 'whole') return 'now'
    if (repeatable === 'other' || (repeatable === 'wait' && now - this.since > o.patienceMs)) return 'broken'
    if (repeatable === 'wait') return 'wait'
    return this.waiting[0]!.alone || this.octets >= o.most || now - this.since >= o.lingerMs ? 'now' : 'wait'
  }

  /** Takes the next batch: as many as fit, one at least; gives its first sequence. */
  take(most: number): { entries: readonly Entry[]; sequence: number } {
    const unsure = this.memory.unsure.get(this.place)
    let count = unsure?.ordinals.length ?? 0
    if (!unsure) {
      let octets = 0
      for (const entry of this.waiting) {
        octets += entry.octets
        if (count > 0 && (octets > most || entry.alone)) break
        count++
        if (entry.alone) break
      }
    }
    this.flying = this.waiting.splice(0, count)
    for (const entry of this.flying) this.octets -= entry.octets
    this.again = unsure !== undefined
    this.sequence = unsure?.sequence ?? this.memory.next.get(this.place) ?? 0
    return { entries: this.flying, sequence: this.sequence }
  }

  /** The batch that flew has been kept. */
  kept(now: number): readonly Entry[] {
    const flown = this.landed(now)
    this.memory.unsure.delete(this.place)
    this.memory.next.set(this.place, (this.sequence + flown.length) % SEQUENCES)
    return flown
  }

  /** It has not been kept this time; whether it was kept when it flew before is as unsure as it was. */
  failed(now: number): readonly Entry[] {
    return this.landed(now)
  }

  /** Nobody knows whether it has been kept. */
  unknown(now: number): readonly Entry[] {
    const flown = this.landed(now)
    if (flown.length > 0) this.memory.unsure.set(this.place, { sequence: this.sequence, ordinals: flown.map((e) => e.m.ordinal) })
    return flown
  }

  /** Not kept, since one of them is at fault: each goes by itself. */
  apart(now: number): void {
    const flown = this.failed(now)
    for (const entry of flown) {
      entry.alone = true
      this.octets += entry.octets
    }
    this.waiting.unshift(...flown)
  }

  /** All that waits, which does not go. */
  clear(): readonly Entry[] {
    const all = this.waiting
    this.waiting = []
    this.octets = 0
    return all
  }

  private landed(now: number): readonly Entry[] {
    const flown = this.flying ?? []
    this.flying = null
    this.since = now
    return flown
  }
}

export const placeOf = (topic: string, partition: number): string => `${topic} ${partition}`
