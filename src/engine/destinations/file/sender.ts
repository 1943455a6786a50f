import { typesOf } from '~/contract/addresses/file'
import type { FileSettings } from '~/contract/destinations/file'
import type { Failure } from '~/contract/failure'
import { unpackProperties } from '~/core/delivery/properties'
import { type Clock, within } from '../../clock/clock'
import { BatchLane, type BatchLimits, freshMemory, type LaneMemory, type Sent } from '../batch-lane'
import type { Answer, DestinationConnection, DestinationSink, Outgoing, Remembered } from '../driver'
import { rowsOf } from '../rows'
import { type FileTarget, PARALLEL, storeOf, wayOf } from './access'
import { meaningOf } from './answers'
import { Doubtful } from './doubtful'
import { type Finished, finishedAt } from './finished'
import { encode, type Sending } from './format'
import { endingOf, nameOf, tagOf } from './names'
import type { Store } from './store'
import { type Known, unfitFor } from './unfit'

const MB = 1_000_000
/** It is looked so often whether a file is old enough, ms. */
const LOOK_MS = 250
const memoryKey = 'file lanes'

interface Memory extends LaneMemory<Sending> {
  way: string
  /** Types of columns as files had them so far, by place. */
  types: Map<string, Known>
  /** Messages of files of which nobody knows whether they were finished, and which do not go again as they were: by position, the file. */
  apart: Map<number, string>
}

class FileLane extends BatchLane<Sending> {
  /** It is to be finished now, however few are in it. */
  hurries = false

  constructor(
    readonly path: string,
    /** Types of columns, as the address has them. */
    readonly how: string,
    memory: LaneMemory<Sending>,
  ) {
    super(`${path} ${how}`, memory)
  }
}

/**
 * Gathers messages by their path, and writes each file whole when it is finished: by number, octets or age, or since no more may wait.
 * What lies in a finished file is acknowledged. Nothing else is kept of it here: until then messages are in the outbox.
 */
export class FileSender implements DestinationConnection {
  readonly window: number
  readonly keepsTime = true
  private readonly most: BatchLimits
  private readonly lanes = new Map<string, FileLane>()
  private readonly tag: string
  private readonly doubtful: Doubtful
  private busy = 0
  private closed = false
  private idle: (() => void)[] = []
  private readonly stopLooking: () => void

  private constructor(
    private readonly store: Store,
    target: FileTarget,
    private readonly s: FileSettings,
    private readonly sink: DestinationSink,
    private readonly clock: Clock,
    private readonly memory: Memory,
    private readonly finished: Finished,
  ) {
    this.window = s.window
    this.most = { octets: s.fileMb * MB, count: s.filesMost }
    this.tag = tagOf(target.id)
    this.doubtful = new Doubtful(store, this.tag, s.idColumn, memory.apart)
    this.stopLooking = clock.every(LOOK_MS, () => this.pump())
  }

  /** Begins when the place of files is there. */
  static async begin(target: FileTarget, sink: DestinationSink, clock: Clock, remembered: Remembered): Promise<FileSender> {
    const { settings: s } = target
    // What went elsewhere, or otherwise, cannot go again as it was.
    const way = `${wayOf(s)} ${s.format} ${s.compression} ${s.idColumn}`
    const known = remembered.get(memoryKey) as Memory | undefined
    const memory: Memory = known?.way === way ? known : { ...freshMemory<Sending>(), way, types: new Map(), apart: new Map() }
    remembered.set(memoryKey, memory)
    const store = storeOf(target, 'sender', clock)
    try {
      await timely(clock, s, store.begin())
      await timely(clock, s, store.clear())
    } catch (e) {
      store.close()
      throw e
    }
    return new FileSender(store, target, s, sink, clock, memory, finishedAt(remembered, wayOf(s)))
  }

  ready(): boolean {
    return true
  }

  unfit({ envelope }: Outgoing): Failure | null {
    return unfitFor(envelope, this.s)
  }

  send(m: Outgoing, answer: (a: Answer) => void): void {
    if (m.alone) this.apart(this.laneOf(m))
    // Where its file may be finished already, that is looked for before anything goes out behind it.
    this.doubtful.settle(m, {
      goes: () => this.closed || this.add(m, answer),
      has: () => {
        if (this.closed) return
        this.memory.apart.delete(m.ordinal)
        answer({ kind: 'has' })
      },
      unsure: (e) => this.closed || this.unsure(answer, e),
    })
  }

  private laneOf({ envelope: { topic, properties } }: Outgoing): FileLane {
    const how = unpackProperties(properties).how ?? ''
    const place = `${topic} ${how}`
    const lane = this.lanes.get(place) ?? new FileLane(topic, how, this.memory)
    this.lanes.set(place, lane)
    return lane
  }

  /** What is unsure does not go again as it was. It may be there all the same, and that is to be looked for. */
  private apart(lane: FileLane): void {
    const batch = lane.dissolve()
    if (!batch) return
    const name = this.nameOf(lane, batch)
    for (const { ordinal } of batch) this.memory.apart.set(ordinal, name)
  }

  private nameOf(lane: FileLane, entries: readonly Sent<Sending>[]): string {
    const [first, last] = [entries[0]!, entries.at(-1)!]
    return nameOf({ place: lane.path, at: first.record.at, tag: this.tag, first: first.ordinal, last: last.ordinal }, endingOf(this.s))
  }

  private add(m: Outgoing, answer: (a: Answer) => void): void {
    const lane = this.laneOf(m)
    if (lane.has(m.ordinal)) return answer({ kind: 'has' })
    const { rows, text } = rowsOf(m.envelope)!
    const record: Sending = { id: m.id, rows, text, at: m.envelope.producedAt }
    lane.add({ ordinal: m.ordinal, record, octets: text.length + m.id.length + 20, answer, alone: m.alone }, this.clock.mono())
    if (lane.due(this.clock.mono(), this.pace(lane))) this.pump()
  }

  private pace(lane: FileLane) {
    return { lingerMs: lane.hurries ? 0 : this.s.ageS * 1000, most: this.most }
  }

  /** No more comes before something has its answer: the largest file is finished; `all`: every one. */
  hurry(all: boolean): void {
    if (this.closed || (!all && (this.busy > 0 || this.doubtful.looking))) return
    const open = [...this.lanes.values()].filter((lane) => lane.waiting.length > 0)
    if (!all) open.sort((a, b) => b.waiting.length - a.waiting.length).splice(PARALLEL)
    for (const lane of open) lane.hurries = true
    if (open.length > 0) this.pump()
  }

  /** Writes the files that are finished, several at once; of one path one after the other. */
  private pump(): void {
    const now = this.clock.mono()
    for (const [place, lane] of this.lanes) {
      if (this.closed || this.busy >= PARALLEL) return
      if (lane.due(now, this.pace(lane))) {
        // Whose turn it was is the last the next time.
        this.lanes.delete(place)
        this.lanes.set(place, lane)
        void this.write(lane)
      } else if (lane.flying === null && lane.waiting.length === 0) this.lanes.delete(place)
    }
  }

  private async write(lane: FileLane): Promise<void> {
    this.busy++
    const { entries } = lane.take(this.most)
    if (lane.waiting.length === 0) lane.hurries = false
    const name = this.nameOf(lane, entries)
    try {
      const known: Known = this.memory.types.get(lane.place) ?? new Map()
      this.memory.types.set(lane.place, known)
      const sent = entries.map(({ record }) => record)
      const octets = await encode(sent, this.s, { fixed: typesOf(lane.how) ?? new Map(), known })
      if (this.closed) return
      await timely(this.clock, this.s, this.store.put(name, octets))
      this.finished.add(name)
      for (const { ordinal } of entries) this.memory.apart.delete(ordinal)
      if (this.closed) return
      for (const { answer } of lane.kept(this.clock.mono())) answer({ kind: 'has' })
    } catch (e) {
      if (!this.closed) this.failed(lane, e)
    } finally {
      this.busy--
      if (this.busy === 0) for (const done of this.idle.splice(0)) done()
    }
    this.pump()
  }

  private failed(lane: FileLane, e: unknown): void {
    const now = this.clock.mono()
    const { meaning, failure } = meaningOf(e, lane.path)
    if (meaning === 'lost') this.lost(failure)
    else if (meaning === 'refused') for (const { answer } of lane.refused(now)) answer({ kind: 'refused', failure })
    else {
      const later: Answer = { kind: 'later', failure, ...(meaning === 'later' && { place: true }) }
      const behind = meaning === 'later' ? [lane] : [...this.lanes.values()]
      // It may be there all the same: it goes again under the same name.
      for (const { answer } of [...lane.unknown(now), ...behind.flatMap((l) => l.clear())]) answer(later)
    }
  }

  /** What an earlier run left cannot be looked for just now. */
  private unsure(answer: (a: Answer) => void, e: unknown): void {
    const { meaning, failure } = meaningOf(e, 'what an earlier run left')
    if (meaning === 'lost') this.lost(failure)
    else answer({ kind: 'later', failure })
  }

  private lost(failure: Failure): void {
    this.close()
    this.sink.down(failure)
  }

  async heard(): Promise<void> {
    if (this.closed) return
    this.hurry(true)
    if (this.busy > 0) await new Promise<void>((done) => this.idle.push(done))
    await timely(this.clock, this.s, this.store.begin()).catch((e: unknown) => this.closed || this.lost(meaningOf(e, wayOf(this.s)).failure))
  }

  close(): void {
    if (this.closed) return
    this.closed = true
    this.stopLooking()
    for (const lane of this.lanes.values()) lane.unknown(this.clock.mono())
    this.store.close()
    for (const done of this.idle.splice(0)) done()
  }
}

/** What `work` gives; rejects when that takes longer than an answer may. */
export async function timely<T>(clock: Clock, { ackS }: Pick<FileSettings, 'ackS'>, work: Promise<T>): Promise<T> {
  const given = await within(
    clock,
    ackS * 1000,
    work.then((value) => ({ value })),
  )
  if (given) return given.value
  // Whatever comes of it later, nobody waits for it.
  work.catch(() => undefined)
  throw Object.assign(new Error('no answer in time'), { code: 'ETIMEDOUT' })
}
