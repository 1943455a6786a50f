import type { RecordsBatch } from '@platformatic/kafka'
import { type Failure, FailureError } from '~/contract/failure'
import type { WitnessView } from '~/core/delivery/account'
import { digest } from '~/core/delivery/digest'
import { ID_PROPERTY } from '~/core/delivery/envelope'
import { type Cancel, type Clock, sleep } from '../../clock/clock'
import type { FarEnd, FarSink, Position } from '../far-end'
import { meaningOf } from './answers'
import { type Fetched, type Place, type StreamAccess, StreamCluster } from './cluster'
import { Reading, type WrittenPlace } from './reading'

/** How long a node waits for something new before it answers that there is nothing, ms. */
const WAIT_MS = 300
const MOST_OCTETS = 4 << 20
/** Sightings that are not written yet; with more no new ones are fetched. */
const UNWRITTEN_MOST = 20_000
/** It is looked so often whether topics have got more partitions, or others lead them, ms. */
const LOOK_MS = 30_000
/** A cluster elects another leader within this, as a rule, ms. */
const ELECTION_MS = 1000
/** Control records of transactions are no messages (bit 5 of a batch's attributes). */
const CONTROL = 0x20
const OUT_OF_RANGE = 1
const NO_TOPIC = 3
const NOT_ALLOWED = 29

interface TopicReading {
  /** Since when nothing that is kept there can pass unseen, monotonic ms. */
  since: number
  partitions: Map<number, Reading>
  /** Of the topic as it was made; empty: that is not told. */
  id: string
}

/** What is written of how far it has come; times by the wall clock, epoch ms. */
interface Written {
  topics: [name: string, since: number, partitions: [number, WrittenPlace][], id?: string][]
}

/** What of a record says whose it is. */
export interface RecordReading {
  /** Header with the id of the message. */
  idHeader: string
  /** Header with where it went; empty: that is not told; null: the topic of the record says it. */
  placeHeader: string | null
}
const usualReading: RecordReading = { idHeader: ID_PROPERTY, placeHeader: null }

interface Token {
  reading: Reading
  offset: number
}

/**
 * Reads topics of a cluster, all partitions of them by assignment: no group stays behind there. Each is read from an offset that
 * is kept with the counts; a new topic from what comes next.
 */
export class StreamFarEnd implements FarEnd {
  private readonly topics = new Map<string, TopicReading>()
  private wanted: readonly string[] = []
  private readonly fading = new Set<string>()
  private cluster: StreamCluster | null = null
  private connectedAt: number | null = null
  private readonly refused = new Map<string, string>()
  private forget = false
  private changed = false
  private unwritten = 0
  private resume: () => void = () => undefined
  private looking: Cancel = () => undefined
  private finding: Promise<void> = Promise.resolve()
  /** Nodes that are being read, and since when each has been asked (monotonic ms). */
  private readonly asked = new Map<number, number>()

  constructor(
    private readonly access: StreamAccess,
    private readonly sink: FarSink,
    private readonly clock: Clock,
    private readonly how: RecordReading = usualReading,
  ) {}

  restore(position: Position): void {
    this.forget = position === 'forget'
    if (!position || position === 'forget') return
    const { topics } = JSON.parse(Buffer.from(position).toString('utf8')) as Written
    const shift = this.clock.mono() - this.clock.wall()
    for (const [name, since, partitions, id = ''] of topics)
      this.topics.set(name, { id, since: since + shift, partitions: new Map(partitions.map(([index, place]) => [index, new Reading(-1, place)])) })
  }

  position(): Uint8Array | null {
    if (!this.changed) return null
    this.changed = false
    const shift = this.clock.mono() - this.clock.wall()
    const topics = [...this.topics].map(([name, { since, partitions, id }]): Written['topics'][number] => [
      name,
      since - shift,
      [...partitions].map(([index, reading]) => [index, reading.written()]),
      id,
    ])
    return Buffer.from(JSON.stringify({ topics } satisfies Written))
  }

  prepare(): void {
    // Offsets are the cluster's: nothing changes there because somebody reads.
  }

  async connect(): Promise<void> {
    if (this.forget) this.topics.clear()
    this.forget = false
    let made: StreamCluster | null = null
    const cluster = await StreamCluster.open(this.access, (why) => made && this.lost(made, why))
    made = cluster
    this.cluster = cluster
    for (const { partitions } of this.topics.values()) for (const reading of partitions.values()) reading.throughAt = Number.NEGATIVE_INFINITY
    await this.find()
    if (this.cluster !== cluster) throw new FailureError(closedWhile, 502)
    this.connectedAt = this.clock.mono()
    this.looking = this.clock.every(LOOK_MS, () => void this.find())
  }

  private lost(cluster: StreamCluster, why: Failure): void {
    if (this.cluster !== cluster) return
    this.drop()
    this.sink.lost({ ...why, where: 'witness' })
  }

  private drop(): void {
    this.looking()
    this.cluster = null
    this.connectedAt = null
    this.asked.clear()
    this.resume()
  }

  async watch(filters: readonly string[]): Promise<void> {
    for (const topic of this.wanted) if (!filters.includes(topic)) this.fading.add(topic)
    for (const topic of filters) this.fading.delete(topic)
    this.wanted = [...filters]
    if (this.cluster) await this.find()
  }

  release(needed: readonly string[]): void {
    for (const topic of this.fading) {
      if (needed.includes(topic)) continue
      this.fading.delete(topic)
      this.topics.delete(topic)
      this.refused.delete(topic)
      this.changed = true
    }
  }

  /** Looks where the wanted topics are, and begins to read what is not read yet; one look at a time. */
  private find(): Promise<void> {
    this.finding = this.finding
      .then(() => this.findNow())
      .catch(() => {
        // The link is lost, which is told by itself, or slow: what is not found is not read, so it is looked again soon.
        const { cluster } = this
        if (cluster) this.clock.after(ELECTION_MS, () => this.cluster === cluster && void this.find())
      })
    return this.finding
  }

  private async findNow(): Promise<void> {
    const { cluster } = this
    const names = [...new Set([...this.wanted, ...this.fading])]
    if (!cluster || names.length === 0) return
    const states = await cluster.topics(names)
    const before = [...this.refused.keys()].join()
    for (const name of names) {
      const state = states.get(name)
      const error = state?.error || (await this.begin(cluster, name, state?.leaders ?? [], state?.id ?? ''))
      if (error === 0) this.refused.delete(name)
      else this.refuse(name, state ? error : NO_TOPIC)
    }
    if ([...this.refused.keys()].join() !== before) this.sink.refused(this.refused)
    if (this.cluster !== cluster) return
    for (const node of this.leaders()) this.read(cluster, node)
    if (this.isLeaderless()) this.clock.after(ELECTION_MS, () => this.cluster === cluster && void this.find())
  }

  /** Whether something that may be read is led by nobody just now. */
  private isLeaderless(): boolean {
    return [...this.topics].some(([name, { partitions }]) => !this.refused.has(name) && [...partitions.values()].some((r) => r.leader < 0))
  }

  /**
   * Begins to read the partitions of a topic that are not read yet. What there is of it may be told to everybody, and still be read
   * by nobody but a few: each node says so when it is asked where its partitions stand.
   * @returns an error of the protocol; 0: none
   */
  private async begin(cluster: StreamCluster, name: string, leaders: readonly number[], id: string): Promise<number> {
    const anew = this.isAnew(name, id)
    const known = this.topics.get(name)
    const topic = known && !anew ? known : { since: 0, partitions: new Map<number, Reading>(), id }
    for (const node of new Set(leaders)) {
      const places = leaders.flatMap((leader, partition): Place[] => (leader === node ? [{ topic: name, partition }] : []))
      if (node < 0 || (known && !anew && !this.refused.has(name) && places.every((p) => topic.partitions.get(p.partition)?.leader === node))) continue
      // A partition that came later is read from its beginning: nothing of it was there before.
      for (const { partition, error, offset } of await cluster.offsets(node, places, known ? 'oldest' : 'next')) {
        if (error === NOT_ALLOWED || error === NO_TOPIC) return error
        const reading = topic.partitions.get(partition)
        if (error !== 0) continue
        if (reading) reading.leader = node
        else {
          topic.partitions.set(partition, new Reading(node, [Number(offset), []]))
          this.changed = true
        }
      }
    }
    // Of a topic that was made anew all is read; what lay in the one before is gone.
    if (!known || anew) topic.since = this.clock.mono()
    if (anew) this.lostSight('stream.anew', `${name} was removed and made anew`, 'Whatever removed it, what was kept there is no more')
    if (topic.id === '' && id !== '') this.changed = true
    topic.id = id || topic.id
    this.topics.set(name, topic)
    return 0
  }

  /** There is another topic of that name than the one that was read. */
  private isAnew(name: string, id: string): boolean {
    const known = this.topics.get(name)?.id ?? ''
    return known !== '' && id !== '' && known !== id
  }

  /** What goes somewhere until now nobody can say of whether it arrived. */
  private lostSight(code: string, what: string, hint: string): void {
    this.sink.unseen({ code, message: `${what}: of what went there until now nobody can say whether it arrived`, hint, where: 'witness' })
  }

  /** It may not be read: what goes there passes unseen, and what is to be seen again begins anew. */
  private refuse(name: string, error: number): void {
    this.refused.set(name, meaningOf(error, name).failure.message)
    const topic = this.topics.get(name)
    if (!topic) return
    for (const reading of topic.partitions.values()) reading.leader = -1
  }

  private leaders(): Set<number> {
    return new Set([...this.topics.values()].flatMap(({ partitions }) => [...partitions.values()].map((r) => r.leader)).filter((n) => n >= 0))
  }

  /** Reads a node as long as it leads something of ours. */
  private read(cluster: StreamCluster, node: number): void {
    if (this.asked.has(node)) return
    this.asked.set(node, this.clock.mono())
    void this.reading(cluster, node)
      .catch(() => {
        // The link is lost, or silent: then what follows on it means nothing.
        cluster.give()
      })
      .finally(() => {
        if (this.cluster !== cluster) return
        this.asked.delete(node)
        // It may lead something again since the loop saw that it does not.
        if (this.leaders().has(node)) this.read(cluster, node)
      })
  }

  private async reading(cluster: StreamCluster, node: number): Promise<void> {
    while (this.cluster === cluster) {
      while (this.unwritten > UNWRITTEN_MOST && this.cluster === cluster) {
        this.sink.hurry()
        await new Promise<void>((done) => {
          this.resume = done
        })
      }
      const places = [...this.topics].flatMap(([topic, { partitions, id }]) =>
        [...partitions]
          .filter(([, reading]) => reading.leader === node)
          .map(([partition, reading]) => ({ topic, partition, id, offset: BigInt(reading.next) })),
      )
      if (places.length === 0 || this.cluster !== cluster) return
      const at = this.clock.mono()
      this.asked.set(node, at)
      const came = await cluster.fetch(node, places, { waitMs: WAIT_MS, most: MOST_OCTETS })
      if (this.cluster !== cluster) return
      let moved = false
      // Nothing else comes of such places: that is not asked for again and again.
      if (came.some((one) => one.error === OUT_OF_RANGE)) await sleep(this.clock, WAIT_MS)
      for (const one of came) {
        if (one.error === 0) this.took(one, at)
        else if (one.error === OUT_OF_RANGE) await this.skip(cluster, node, one)
        else moved = true
      }
      if (!moved) continue
      // Led by another node now, gone, or not ours any more: that is looked at anew, after a moment.
      for (const one of came) if (one.error > OUT_OF_RANGE) for (const reading of this.placeOf(one)) reading.leader = -1
      await sleep(this.clock, WAIT_MS)
      await this.find()
    }
  }

  private placeOf({ topic, partition }: Place): Reading[] {
    const reading = this.topics.get(topic)?.partitions.get(partition)
    return reading ? [reading] : []
  }

  /**
   * What comes next there is not to be had: the topic is another one, or the cluster has let go of records before they were read, or has less
   * than it had. Of what went there until now nobody can say whether it had arrived.
   */
  private async skip(cluster: StreamCluster, node: number, place: Place): Promise<void> {
    const [before] = this.placeOf(place)
    await this.find()
    const [reading] = this.placeOf(place)
    const [oldest] = await cluster.offsets(node, [place], 'oldest')
    const [next] = await cluster.offsets(node, [place], 'next')
    const topic = this.topics.get(place.topic)
    if (reading !== before || !reading || oldest?.error !== 0 || next?.error !== 0 || !topic) return
    const shorter = reading.next > Number(next.offset)
    // Of what is there again some may have been counted already: only what comes from now on is sure to be new.
    if (shorter) reading.restart(Number(next.offset))
    else reading.jump(Number(oldest.offset))
    topic.since = this.clock.mono()
    this.changed = true
    if (shorter)
      this.lostSight('stream.shorter', `${place.topic} holds less than it did`, 'The cluster lost records, or was set back: look at its log')
    else
      this.lostSight(
        'stream.retention',
        `${place.topic} had let go of records before they were read`,
        'Have the cluster keep them for longer than the witness may be away',
      )
  }

  private took({ topic, partition, end, batches }: Fetched, askedAt: number): void {
    const [reading] = this.placeOf({ topic, partition })
    if (!reading) return
    const mono = this.clock.mono()
    const wall = this.clock.wall()
    for (const batch of batches) {
      if (batch.attributes & CONTROL) reading.jump(Number(batch.firstOffset) + batch.lastOffsetDelta + 1)
      else this.records(topic, reading, batch, wall, mono)
    }
    // All that was kept when this was asked has come.
    if (reading.next >= Number(end)) reading.throughAt = Math.max(reading.throughAt, askedAt)
  }

  private records(topic: string, reading: Reading, batch: RecordsBatch, at: number, mono: number): void {
    for (const record of batch.records) {
      const offset = Number(batch.firstOffset) + record.offsetDelta
      if (!reading.sees(offset)) continue
      const { idHeader, placeHeader } = this.how
      const said = (header: string) => record.headers.find(([name]) => name?.toString('latin1') === header)?.[1]?.toString('utf8') ?? null
      const id = said(idHeader)
      this.unwritten++
      this.sink.sighting({
        id,
        topic: placeHeader === null ? topic : placeHeader === '' ? '' : (said(placeHeader) ?? ''),
        digest: digest(record.value ?? Buffer.alloc(0)),
        at,
        mono,
        repeated: false,
        held: false,
        comesAgain: true,
        token: { reading, offset } satisfies Token,
      })
    }
  }

  counted(token: unknown): void {
    const { reading, offset } = token as Token
    reading.counts(offset)
    this.changed = true
  }

  safe(): void {
    this.unwritten--
    if (this.unwritten <= UNWRITTEN_MOST) this.resume()
  }

  view(): WitnessView | null {
    if (this.connectedAt === null) return null
    const through = [...this.topics.values()].flatMap(({ partitions }) => [...partitions.values()].map((r) => r.throughAt))
    return {
      connectedAt: this.connectedAt,
      clearAt: through.length === 0 ? this.connectedAt : Math.min(...through),
      // Partitions come in no order among each other: what was seen of one says nothing about another.
      seenAt: Number.NEGATIVE_INFINITY,
      seenAnyAt: Number.NEGATIVE_INFINITY,
      coveredSince: (topic) => {
        const known = this.refused.has(topic) ? undefined : this.topics.get(topic)
        return known?.since ?? Number.POSITIVE_INFINITY
      },
    }
  }

  probe(): void {
    // Every node is asked all the time.
  }

  silentMs(): number {
    const oldest = Math.min(...this.asked.values())
    return Number.isFinite(oldest) ? Math.max(0, this.clock.mono() - oldest - WAIT_MS) : 0
  }

  close(): void {
    const { cluster } = this
    this.drop()
    cluster?.close()
  }
}

const closedWhile: Failure = {
  code: 'stream.closed',
  message: 'The connection was closed while it began',
  hint: 'Embrik tries again',
  where: 'witness',
}
