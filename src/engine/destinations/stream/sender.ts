import { murmur2, NumericMap } from '@platformatic/kafka'
import type { Failure } from '~/contract/failure'
import { ID_PROPERTY } from '~/core/delivery/envelope'
import { unpackProperties } from '~/core/delivery/properties'
import type { Clock } from '../../clock/clock'
import { BatchLane, type BatchLimits, freshMemory, type LaneMemory } from '../batch-lane'
import type { Answer, DestinationConnection, DestinationSink, Outgoing, Remembered } from '../driver'
import { meaningOf } from './answers'
import { type BatchAnswer, noTopic, type SentRecord, type StreamCluster, type TopicState } from './cluster'

export interface SenderOptions {
  acks: 'all' | 'leader'
  compression: 'none' | 'gzip' | 'zstd' | 'snappy' | 'lz4'
  lingerMs: number
  /** Octets of a batch at most. */
  batch: number
  window: number
}

/** A topic that is not there, or not ours, is asked for again after this, ms. */
const AGAIN_MS = 10_000
/** Octets of a record beside its key, value and headers, at most. */
const RECORD_HEAD = 40

const memoryKey = 'stream producer'

/** As whom batches are counted, and what is kept of them. */
interface ProducerMemory extends LaneMemory<SentRecord> {
  producer: { id: bigint; epoch: number } | null
}

const placeOf = (topic: string, partition: number): string => `${topic} ${partition}`

/** Messages of one partition. */
class PartitionLane extends BatchLane<SentRecord> {
  constructor(
    readonly topic: string,
    readonly partition: number,
    memory: ProducerMemory,
  ) {
    super(placeOf(topic, partition), memory)
  }
}

interface Known extends TopicState {
  /** Monotonic ms. */
  at: number
}

/** What is not taken now is so for its topic; a quota is for all. */
const notNow = (failure: Failure): Answer => ({ kind: 'later', failure, place: failure.code !== 'stream.quota' })

/**
 * Sends to a cluster: messages gather by partition until a batch is full or its time is over; each node has one request under way.
 * Batches are counted (idempotent producer), so that one whose answer was lost is kept once when it goes again over the next connection.
 */
export class StreamSender implements DestinationConnection {
  readonly window: number
  private readonly most: BatchLimits
  private readonly topics = new Map<string, Known>()
  private readonly asked = new Set<string>()
  private readonly lanes = new Map<string, PartitionLane>()
  private readonly busy = new Set<number>()
  private throttledUntil = 0
  private stopTimer: (() => void) | null = null
  private closed = false

  private constructor(
    private readonly cluster: StreamCluster,
    private readonly o: SenderOptions,
    private readonly sink: DestinationSink,
    private readonly clock: Clock,
    private readonly memory: ProducerMemory,
  ) {
    this.window = o.window
    this.most = { octets: o.batch, count: o.window }
  }

  /** Begins on a cluster that is connected; with all acknowledgements as a producer whose batches are counted. */
  static async begin(cluster: StreamCluster, o: SenderOptions, sink: DestinationSink, clock: Clock, remembered: Remembered): Promise<StreamSender> {
    const memory = (remembered.get(memoryKey) as ProducerMemory | undefined) ?? { ...freshMemory<SentRecord>(), producer: null }
    remembered.set(memoryKey, memory)
    if (o.acks === 'all') memory.producer ??= await cluster.producer()
    return new StreamSender(cluster, o, sink, clock, memory)
  }

  private async ask(topic: string): Promise<void> {
    if (this.asked.has(topic)) return
    this.asked.add(topic)
    try {
      const found = await this.cluster.topics([topic])
      const at = this.clock.mono()
      this.topics.set(topic, { ...(found.get(topic) ?? noTopic), at })
    } catch {
      // The link is lost, which is told by itself.
    } finally {
      this.asked.delete(topic)
    }
    if (!this.closed) this.sink.ready()
  }

  ready(_ordinal: number, { topic }: { topic: string }): boolean {
    const known = this.topics.get(topic)
    const now = this.clock.mono()
    if (!known || (known.error !== 0 && now - known.at > AGAIN_MS)) {
      void this.ask(topic)
      return false
    }
    return now >= this.throttledUntil
  }

  unfit({ envelope }: Outgoing): Failure | null {
    const error = this.topics.get(envelope.topic)?.error ?? 0
    if (error === 0) return null
    const { meaning, failure } = meaningOf(error, envelope.topic)
    return meaning === 'refused' ? failure : null
  }

  send(m: Outgoing, answer: (a: Answer) => void): void {
    const { topic, payload, properties, producedAt } = m.envelope
    const { key, headers, contentType, kept } = unpackProperties(properties)
    const leaders = this.topics.get(topic)?.leaders ?? []
    if (leaders.length === 0) return answer(notNow(meaningOf(5, topic).failure))
    const keyOctets = Buffer.from(key === '' ? topic : key)
    // As clients of the protocol do, so that others who write the same key write to the same partition.
    const partition = (murmur2(keyOctets) & 0x7fffffff) % leaders.length
    const octets = typeof payload === 'string' ? Buffer.from(payload) : Buffer.from(payload.buffer, payload.byteOffset, payload.byteLength)
    // Nothing where the last of a key is kept: the key is taken back.
    const value = kept && octets.length === 0 ? null : octets
    const beside: [string, string][] = [
      [ID_PROPERTY, m.id],
      ...(contentType === '' ? [] : [['content-type', contentType] as [string, string]]),
      ...headers,
    ]
    const record: SentRecord = {
      topic,
      partition,
      value,
      headers: new Map(beside.map(([name, text]) => [Buffer.from(name), Buffer.from(text)])),
      timestamp: BigInt(Math.max(0, Math.round(producedAt))),
      ...(key !== '' && { key: keyOctets }),
    }
    const size = beside.reduce((n, [name, text]) => n + name.length + text.length + 8, RECORD_HEAD + octets.length + keyOctets.length)
    const lane = this.lane(topic, partition)
    if (lane.has(m.ordinal)) return answer({ kind: 'has' })
    lane.add({ ordinal: m.ordinal, record, octets: size, answer, alone: false }, this.clock.mono())
    this.pump()
  }

  private lane(topic: string, partition: number): PartitionLane {
    const place = placeOf(topic, partition)
    const lane = this.lanes.get(place) ?? new PartitionLane(topic, partition, this.memory)
    this.lanes.set(place, lane)
    return lane
  }

  /** Sends what is due, by the nodes that lead. */
  private pump(): void {
    const now = this.clock.mono()
    if (this.closed || now < this.throttledUntil) return
    const due = new Map<number, PartitionLane[]>()
    let wait = false
    for (const lane of this.lanes.values()) {
      if (!lane.due(now, { lingerMs: this.o.lingerMs, most: this.most })) {
        wait ||= lane.flying === null && lane.waiting.length > 0
        continue
      }
      const leader = this.topics.get(lane.topic)?.leaders[lane.partition] ?? -1
      if (leader < 0) this.notNow(lane, meaningOf(5, lane.place).failure)
      else if (!this.busy.has(leader)) due.set(leader, [...(due.get(leader) ?? []), lane])
    }
    for (const [node, lanes] of due) void this.request(node, lanes)
    if (wait) this.later(Math.max(1, this.o.lingerMs))
  }

  private later(ms: number): void {
    this.stopTimer ??= this.clock.after(ms, () => {
      this.stopTimer = null
      this.pump()
    })
  }

  private async request(node: number, lanes: readonly PartitionLane[]): Promise<void> {
    this.busy.add(node)
    const sequences = new NumericMap()
    const records: SentRecord[] = []
    for (const lane of lanes) {
      const { entries, sequence } = lane.take(this.most)
      sequences.set(`${lane.topic}:${lane.partition}`, sequence)
      for (const { record } of entries) records.push(record)
    }
    const { id, epoch } = this.memory.producer ?? { id: -1n, epoch: -1 }
    try {
      const said = await this.cluster.produce(node, this.o.acks === 'all' ? -1 : 1, records, {
        compression: this.o.compression,
        producerId: id,
        producerEpoch: epoch,
        sequences,
        partitionLeaderEpoch: -1,
      })
      // What was unsure at the close stays so: another connection may be at it already.
      if (this.closed) return
      const answers = new Map(said.batches.map((b) => [placeOf(b.topic, b.partition), b]))
      if (said.throttleMs > 0) this.throttle(said.throttleMs)
      for (const lane of lanes) this.landed(lane, answers.get(lane.place) ?? { topic: lane.topic, partition: lane.partition, error: 7, detail: null })
    } catch {
      // No answer: the link is lost or given up, and what flew is unsure.
      for (const lane of lanes) this.unsure(lane)
      this.cluster.give()
    } finally {
      this.busy.delete(node)
    }
    this.pump()
  }

  private throttle(ms: number): void {
    this.throttledUntil = this.clock.mono() + ms
    this.clock.after(ms, () => {
      if (this.closed) return
      this.pump()
      this.sink.ready()
    })
  }

  private landed(lane: PartitionLane, { error, detail }: BatchAnswer): void {
    const now = this.clock.mono()
    if (error === 0) {
      for (const { answer } of lane.kept(now)) answer({ kind: 'has' })
      return
    }
    const { meaning, failure } = meaningOf(error, lane.place, detail)
    const one = lane.flying?.length === 1
    // Kept already is only what went before just so; parts of it may be new, and something that was unsure cannot be parted.
    if ((meaning === 'has' && !lane.again) || (meaning === 'split' && lane.again)) return this.renew(failure)
    if (meaning === 'has') for (const { answer } of lane.kept(now)) answer({ kind: 'has' })
    else if (meaning === 'split' && !one) lane.apart(now)
    else if (meaning === 'split' || meaning === 'refused') {
      for (const { answer } of lane.failed(now)) answer({ kind: 'refused', failure })
      if (meaning === 'refused') this.topics.delete(lane.topic)
    } else if (meaning === 'anew') this.renew(failure)
    else {
      const flown = meaning === 'unsure' ? this.unsure(lane) : lane.failed(now)
      for (const { answer } of flown) answer(notNow(failure))
      this.notNow(lane, failure)
      this.topics.delete(lane.topic)
    }
  }

  /** Without counting there is nothing by which the cluster could know it again. */
  private unsure(lane: PartitionLane) {
    const now = this.clock.mono()
    return this.memory.producer ? lane.unknown(now) : lane.failed(now)
  }

  /** What waits behind something that was not taken goes after it. */
  private notNow(lane: PartitionLane, failure: Failure): void {
    for (const { answer } of lane.clear()) answer(notNow(failure))
  }

  private renew(failure: Failure): void {
    this.memory.producer = null
    this.memory.next.clear()
    this.memory.unsure.clear()
    this.close()
    this.sink.down(failure)
  }

  heard(): Promise<void> {
    return this.cluster.heard()
  }

  close(): void {
    if (this.closed) return
    this.closed = true
    this.stopTimer?.()
    for (const lane of this.lanes.values()) this.unsure(lane)
    this.cluster.close()
  }
}
