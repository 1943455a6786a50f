import { newId } from '~/contract/id'
import type { EventRow } from '~/contract/live'
import { Fenced, type StoreTrouble } from '~/core/delivery/delivery-store'
import { BlockMaker } from '~/core/recording/block'
import { Status } from '~/core/value/quality'
import type { Db } from '~/store/database'
import { emptyRecording, type RecordingWrite, trimRecording, writeRecording } from '~/store/recording'
import { type Cancel, type Clock, within } from '../clock/clock'
import type { LiveTable } from '../live/table'
import { log, wordsOf } from '../log'
import type { Packing } from '../outbox/packing'

/** A block is cut when so long has passed, or so many samples or octets have come. */
const CUT = { ms: 10_000, samples: 10_000, octets: 256 << 10 }
/** How often what all tags hold is written, ms: from there what was before any moment is reckoned. */
const WHOLE_MS = 10 * 60_000
const TRIM_MS = 60_000
/** The most that waits in memory for a database that is away, octets; beyond it the oldest is not recorded. */
const WAITING_OCTETS = 8 << 20
const RETRY_MS = { first: 500, most: 10_000 }
/** While the disk is full nothing is recorded for so long, ms. */
const FULL_MS = 60_000
/** So long an end waits for what is still to be written, ms. */
const LAST_MS = 2000

/** How much is kept. 0 octets: nothing is recorded. */
export interface RecordingLimits {
  bytes: number
  ageMs: number
}

export interface RecorderOptions {
  db: Db
  clock: Clock
  table: LiveTable
  packing: Packing
  limits: RecordingLimits
  /** Of the lease under which it writes. */
  epoch(): number
  troubleOf(e: unknown): StoreTrouble
  event(severity: EventRow['severity'], code: string, message: string, hint: string): void
}

interface Cut {
  /** One after the other, so that none is written for long. */
  makers: BlockMaker[]
  from: number
  to: number
  /** When it is what all tags held. */
  wholeAt: number | null
}

const octetsOf = ({ makers }: Cut): number => makers.reduce((n, m) => n + m.octets, 0)

/**
 * Records what becomes of all tags, for a while: blocks of moments, packed. Nothing waits for it: what cannot be written in time is not
 * recorded, which is told; where the disk is full all of it makes room at once.
 */
export class Recorder {
  private maker = new BlockMaker()
  private since: number
  private waiting: Cut[] = []
  private writing: Promise<void> | null = null
  private readonly cancels: Cancel[] = []
  private pausedUntil = 0
  private ended = false
  /** Samples that were not recorded since it last could write. */
  private lost = 0
  private full = false

  constructor(private readonly o: RecorderOptions) {
    this.since = o.clock.wall()
  }

  start(): void {
    const { clock, table, limits } = this.o
    if (limits.bytes <= 0) return
    this.since = clock.wall()
    this.whole()
    this.cancels.push(
      table.onBatch((handles, came) => this.heard(handles, came)),
      clock.every(CUT.ms, () => this.cut()),
      clock.every(WHOLE_MS, () => this.whole()),
      clock.every(TRIM_MS, () => void this.trim()),
    )
  }

  private heard(handles: readonly number[], came: boolean): void {
    const { table, clock } = this.o
    const { maker } = this
    maker.begin(clock.wall(), came)
    for (const h of handles) maker.add(h, table.value[h] ?? null, table.status[h]!, table.time[h]!)
    // Between two moments only: what came at once stays together.
    if (maker.samples >= CUT.samples || maker.octets >= CUT.octets) this.cut()
  }

  /** What was gathered is to be written. */
  private cut(): void {
    if (this.maker.samples === 0) return
    const to = this.o.clock.wall()
    this.put({ makers: [this.maker], from: this.since, to, wholeAt: null })
    this.maker = new BlockMaker()
    this.since = to
  }

  /** What all tags hold now is to be written, after what came before. */
  private whole(): void {
    this.cut()
    const { table, clock } = this.o
    const at = Math.round(clock.wall())
    const begun = () => {
      const maker = new BlockMaker()
      maker.begin(at, false)
      return maker
    }
    const makers = [begun()]
    for (let h = 0; h < table.status.length; h++) {
      const value = table.value[h] ?? null
      if (value === null && table.status[h] === Status.waitingForInitialData) continue
      if (makers.at(-1)!.samples >= CUT.samples) makers.push(begun())
      makers.at(-1)!.add(h, value, table.status[h]!, table.time[h]!)
    }
    this.put({ makers, from: at, to: at, wholeAt: at })
  }

  private put(cut: Cut): void {
    if (this.o.clock.mono() < this.pausedUntil) return
    this.waiting.push(cut)
    let octets = this.waiting.reduce((n, c) => n + octetsOf(c), 0)
    while (octets > WAITING_OCTETS && this.waiting.length > 1) {
      const cut = this.waiting.shift()!
      octets -= octetsOf(cut)
      for (const maker of cut.makers) this.lost += maker.samples
    }
    this.begin()
  }

  private begin(): void {
    if (this.writing || this.waiting.length === 0 || this.ended) return
    this.writing = this.write()
      .catch((e: unknown) => log('error', 'recording', wordsOf(e)))
      .finally(() => {
        this.writing = null
        this.begin()
      })
  }

  /** Writes the oldest that waits, however long that takes, unless it is pushed out meanwhile. */
  private async write(): Promise<void> {
    const { db, clock, packing, epoch } = this.o
    const cut = this.waiting[0]!
    const blocks: RecordingWrite[] = []
    for (const maker of cut.makers) {
      // In a turn of its own: who tells of values does not wait for it.
      await new Promise<void>((done) => clock.soon(done))
      blocks.push({ mark: newId(), from: cut.from, to: cut.to, samples: maker.samples, body: await packing.pack(maker.write()) })
    }
    for (let wait = RETRY_MS.first; !this.ended && this.waiting.includes(cut); wait = Math.min(2 * wait, RETRY_MS.most)) {
      try {
        await writeRecording(db, blocks, cut.wholeAt, epoch())
        this.waiting = this.waiting.filter((c) => c !== cut)
        return this.well()
      } catch (e) {
        if (e instanceof Fenced) return this.end()
        if (this.o.troubleOf(e) === 'full') return await this.makesRoom()
        if (wait === RETRY_MS.first) log('warn', 'recording', `cannot be written: ${wordsOf(e)}; tries again`)
        await new Promise<void>((done) => clock.after(wait, done))
      }
    }
  }

  private well(): void {
    this.full = false
    if (this.lost === 0) return
    const { lost } = this
    this.lost = 0
    // What comes after a gap begins anew.
    this.whole()
    this.o.event(
      'warning',
      'recording.gap',
      `${lost} values of tags were not recorded: the database was away for too long`,
      'What was sent is not concerned; what is reckoned from the recording lacks them',
    )
  }

  /** The disk is full: the recording is the first to make room, all at once. */
  private async makesRoom(): Promise<void> {
    const { db, clock } = this.o
    this.pausedUntil = clock.mono() + FULL_MS
    this.waiting = []
    try {
      await emptyRecording(db)
    } catch (e) {
      log('warn', 'recording', `cannot make room: ${wordsOf(e)}`)
    }
    if (!this.full)
      this.o.event(
        'warning',
        'recording.full-disk',
        'The recording of tag values was emptied, and pauses: the disk of the database is full',
        'It goes on by itself when there is room again; what was sent is not concerned',
      )
    this.full = true
    this.cancels.push(clock.after(FULL_MS, () => this.whole()))
  }

  private async trim(): Promise<void> {
    const { db, clock, limits } = this.o
    try {
      await trimRecording(db, clock.wall() - limits.ageMs, limits.bytes)
    } catch (e) {
      log('warn', 'recording', `its oldest could not be removed: ${wordsOf(e)}`)
    }
  }

  private end(): void {
    this.ended = true
    for (const stop of this.cancels.splice(0)) stop()
  }

  /** What was gathered is written, unless the database is away for longer than a moment. */
  async stop(): Promise<void> {
    this.cut()
    const { clock } = this.o
    const through = async () => {
      while (this.writing) await this.writing
    }
    await within(clock, LAST_MS, through())
    this.end()
  }
}
