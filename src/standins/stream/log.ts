import { createHash, randomBytes } from 'node:crypto'
import type { Fate } from '../mishaps'
import { type ErrorCode, errors } from './api'
import type { Faults } from './faults'
import type { Batch, StreamRecord } from './records'

/** A record where it lies. */
export interface Kept extends StreamRecord {
  offset: number
}

/** One record that a producer was told is kept: the ground truth, which knows nothing of who reads it. */
export interface Arrival {
  /** Counts up by one a record. */
  n: number
  /** Epoch ms. */
  at: number
  from: string
  topic: string
  partition: number
  /** null: it was dropped. */
  offset: number | null
  key: string | null
  /** Text of the header that carries the id. */
  id: string | null
  /** First 16 hex digits of the value's SHA-256, as it was sent. */
  hash: string
  fate: Fate
}

/** So many batches of one producer are remembered: as many as it may have under way. */
const REMEMBERED = 5
const SEQUENCES = 2 ** 31

interface Producer {
  epoch: number
  /** The last batches: their first and last sequence, and where they were put. */
  batches: { first: number; last: number; offset: number }[]
}

/** Some clients write a sequence without being a producer that counts. */
const counts = ({ producerId, sequence }: Batch) => producerId >= 0n && sequence >= 0

const after = (sequence: number, n: number) => (sequence + n) % SEQUENCES

/** What was kept of a partition, the oldest gone beyond a number of records; with what its producers sent last. */
export class Partition {
  records: Kept[] = []
  next = 0
  leader: number
  private readonly producers = new Map<bigint, Producer>()
  private readonly waiting = new Set<() => void>()

  constructor(
    readonly topic: string,
    readonly index: number,
    leader: number,
    private readonly most: number,
  ) {
    this.leader = leader
  }

  /** Offset of the oldest record that is there. */
  get start(): number {
    return this.records[0]?.offset ?? this.next
  }

  /** Whether a batch may be kept; where it is kept already, when it is a repetition. */
  judge(batch: Batch): { error: ErrorCode; offset: number | null } {
    if (!counts(batch)) return { error: errors.none, offset: null }
    const known = this.producers.get(batch.producerId)
    if (!known) return { error: batch.sequence === 0 ? errors.none : errors.outOfOrderSequenceNumber, offset: null }
    if (batch.producerEpoch < known.epoch) return { error: errors.invalidProducerEpoch, offset: null }
    if (batch.producerEpoch > known.epoch) return { error: batch.sequence === 0 ? errors.none : errors.outOfOrderSequenceNumber, offset: null }
    const last = after(batch.sequence, batch.records.length - 1)
    const again = known.batches.find((b) => b.first === batch.sequence && b.last === last)
    if (again) return { error: errors.none, offset: again.offset }
    const latest = known.batches.at(-1)
    if (!latest || after(latest.last, 1) === batch.sequence) return { error: errors.none, offset: null }
    const behind = (batch.sequence - latest.last + SEQUENCES) % SEQUENCES > SEQUENCES / 2
    return { error: behind ? errors.duplicateSequenceNumber : errors.outOfOrderSequenceNumber, offset: null }
  }

  /** Keeps a batch that may be kept; gives the offset of its first record. */
  keep(batch: Batch, from: string, faults: Faults, truth: Truth): number {
    const offset = this.next
    for (const record of batch.records) {
      const fate = faults.fate()
      const kept = fate === 'altered' ? { ...record, value: faults.altered(record.value) } : record
      truth.arrived(record, fate === 'dropped' ? null : this.next, from, this, fate)
      if (fate !== 'dropped') this.records.push({ ...kept, offset: this.next++ })
      if (fate === 'doubled') this.records.push({ ...kept, offset: this.next++ })
    }
    if (counts(batch)) {
      const known = this.producers.get(batch.producerId)
      const producer = known?.epoch === batch.producerEpoch ? known : { epoch: batch.producerEpoch, batches: [] }
      producer.batches.push({ first: batch.sequence, last: after(batch.sequence, batch.records.length - 1), offset })
      if (producer.batches.length > REMEMBERED) producer.batches.shift()
      this.producers.set(batch.producerId, producer)
    }
    if (this.records.length > this.most * 1.25) this.records.splice(0, this.records.length - this.most)
    this.wake()
    return offset
  }

  /** Forgets what lies before an offset, as retention does. */
  trim(before: number): void {
    this.records = this.records.filter((r) => r.offset >= before)
  }

  /** Loses what lies from an offset on, as a node does that takes over with less than others had: others come there. */
  setBack(to: number): void {
    this.records = this.records.filter((r) => r.offset < to)
    this.next = Math.min(this.next, to)
    this.wake()
  }

  /** From an offset on, as many as fit into so many octets, one at least. */
  read(offset: number, octets: number): Kept[] {
    let low = 0
    let high = this.records.length
    while (low < high) {
      const middle = (low + high) >> 1
      if (this.records[middle]!.offset < offset) low = middle + 1
      else high = middle
    }
    const out: Kept[] = []
    for (let i = low, size = 0; i < this.records.length; i++) {
      const { key, value } = this.records[i]!
      size += 40 + (key?.length ?? 0) + (value?.length ?? 0)
      if (out.length > 0 && size > octets) break
      out.push(this.records[i]!)
    }
    return out
  }

  /** Calls back once when something new is there, or its leader changes; gives what takes that back. */
  onNews(call: () => void): () => void {
    this.waiting.add(call)
    return () => this.waiting.delete(call)
  }

  wake(): void {
    for (const call of [...this.waiting]) call()
  }
}

/** The name of the header that carries a message's id. */
const ID_HEADER = 'embrik-id'

/** What producers were told is kept, and what was done to it. */
export class Truth {
  arrivals: Arrival[] = []
  private next = 1

  /** Keeps the last `limit`; with 0 none, and hashes nothing. */
  constructor(private readonly limit: number) {}

  /** How many records producers were told are kept. */
  get kept(): number {
    return this.next - 1
  }

  arrived(record: StreamRecord, offset: number | null, from: string, { topic, index }: Partition, fate: Fate): void {
    if (this.limit === 0) return
    this.arrivals.push({
      n: this.next++,
      at: Date.now(),
      from,
      topic,
      partition: index,
      offset,
      key: record.key?.toString('utf8') ?? null,
      id: record.headers.find(([name]) => name === ID_HEADER)?.[1]?.toString('utf8') ?? null,
      hash: createHash('sha256')
        .update(record.value ?? '')
        .digest('hex')
        .slice(0, 16),
      fate,
    })
    if (this.arrivals.length > this.limit * 1.25) this.arrivals.splice(0, this.arrivals.length - this.limit)
  }
}

/** All topics with their partitions. */
export class Topics {
  private readonly all = new Map<string, Partition[]>()
  private readonly ids = new Map<string, Buffer>()

  constructor(
    private readonly nodes: readonly number[],
    /** Records that each partition keeps at most. */
    private readonly most: number,
  ) {}

  add(name: string, partitions: number): void {
    const made = Array.from({ length: partitions }, (_, i) => new Partition(name, i, this.nodes[i % this.nodes.length]!, this.most))
    this.all.set(name, made)
    this.ids.set(name, randomBytes(16))
  }

  remove(name: string): void {
    const gone = this.all.get(name)
    this.all.delete(name)
    for (const partition of gone ?? []) partition.wake()
  }

  /** Sixteen octets that no other topic has, also of the same name. */
  id(name: string): Buffer {
    return this.ids.get(name) ?? Buffer.alloc(16)
  }

  /** The topic that has an id; empty: there is none any more. */
  named(id: Buffer): string {
    for (const [name, own] of this.ids) if (own.equals(id) && this.all.has(name)) return name
    return ''
  }

  names(): string[] {
    return [...this.all.keys()].sort()
  }

  of(name: string): readonly Partition[] | null {
    return this.all.get(name) ?? null
  }

  partition(name: string, index: number): Partition | null {
    return this.all.get(name)?.[index] ?? null
  }

  /** Every partition is led by the next node. */
  moveLeaders(): void {
    for (const partition of [...this.all.values()].flat()) {
      partition.leader = this.nodes[(this.nodes.indexOf(partition.leader) + 1) % this.nodes.length]!
      partition.wake()
    }
  }
}
