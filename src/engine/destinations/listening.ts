import type { Lane } from '~/contract/destination'
import { fail } from '~/contract/failure'
import { sleep } from '../clock/clock'
import { Retrying } from '../clock/retrying'
import { failureOf } from '../failure'
import { Witness } from '../witness/witness'
import type { DestinationTarget } from './driver'
import type { Position } from './far-end'
import type { LaneParts } from './lane'

/** It is looked so often whether filters can go that only older messages needed, ms. */
const RELEASE_LOOK_MS = 5000
/** It is looked so often whether the database is back, ms. */
const LOOK_MS = 500
const SOON_MS = 50

/** Keeps a witness at the far end of a lane: one at a time, each beginning where the one before it had counted to. */
export class Listening {
  witness: Witness | null = null
  private preparing: Retrying | null = null
  /** Where the last one was is still to be read from the database. */
  private unplaced = false
  /** The witness before this one may have counted what is not written. */
  private lastUnwritten = false
  private target: DestinationTarget | null = null
  private filters: readonly string[] = []
  /** What each delivery had numbered when filters were exchanged: with all that judged the older filters may go. */
  private marks: Map<number, number> | null = null
  private readonly stopReleasing: () => void

  constructor(private readonly lane: LaneParts) {
    this.stopReleasing = lane.ctx.clock.every(RELEASE_LOOK_MS, () => this.release())
  }

  /** What is to be read back, from the beginning on. */
  expect(filters: readonly string[]): void {
    this.filters = filters
  }

  /** Begins to read the far end where the last one was; what it needs to begin may be away, and is asked for again then. */
  begin(): Promise<void> {
    const { ctx, anew, condition } = this.lane
    void this.preparing?.stop()
    const preparing = new Retrying(ctx.clock, { firstMs: 500, mostMs: 10_000 })
    this.preparing = preparing
    this.unplaced = true
    return new Promise((begun) => {
      preparing.start(
        async () => {
          // What the last one counted is written before the next one reads where it was: else it comes again, and counts again.
          if (this.lastUnwritten) await this.writeLast()
          const position = anew.witness ? 'forget' : await ctx.store.loadPosition(this.lane.destination.id)
          // Another beginning may have taken its place meanwhile: one witness is enough.
          if (this.preparing === preparing) {
            this.unplaced = false
            await this.startWitness(position)
          }
          begun()
          void preparing.stop()
          return 'wait'
        },
        (e) => {
          const f = failureOf(e, 'witness')
          if (preparing.failures === 0) condition.event('trouble', f.code, `witness: ${f.message}`, f.hint)
          // Sending goes on meanwhile: what the witness could not see is unknown, not lost.
          begun()
        },
      )
    })
  }

  /** Resolves when the witness listens, or when nobody need wait any longer for it; `kept` hears that the database keeps it. */
  async ready(ms: number, kept: () => void): Promise<void> {
    const { lane } = this
    for (let n = 0; this.unplaced && !lane.stopped && lane.destination.settings.witness; n++) {
      // As a rule it is only being read just now.
      if (n > 0) kept()
      this.preparing?.hurry()
      await sleep(lane.ctx.clock, n === 0 ? SOON_MS : LOOK_MS)
    }
    this.witness?.hurry()
    await this.witness?.ready(ms, kept)
  }

  private async writeLast(): Promise<void> {
    if (!(await this.lane.ctx.ledger.written()))
      throw fail(503, 'witness.waits', 'What the one before it counted cannot be written yet', 'Bring the database back', 'witness')
    this.lastUnwritten = false
  }

  private async startWitness(position: Position): Promise<void> {
    const { lane } = this
    const { settings, enabled } = lane.destination
    const { clock, driver, ledger, installation } = lane.ctx
    if (!settings.witness) lane.begunAnew('witness')
    if (!settings.witness || !enabled || lane.stopped) return ledger.attach(lane.outbox, null)
    const target = await lane.ctx.target(lane.destination)
    if (lane.stopped) return
    this.target = target
    this.witness = new Witness({
      clock,
      farEnd: (sink) => driver.farEnd(target, sink, clock, lane.remembered),
      retryMs: settings.retryMs,
      installation,
      byId: driver.carriesId(settings),
      ledger,
      topics: lane.topics,
      owns: (delivery) => !ledger.isWatchedElsewhere(delivery, lane.destination.id),
      mayListen: () => lane.ctx.mayHold(),
      connectWait: () => lane.connectWait(),
      hooks: {
        event: (severity, code, message, hint) => lane.condition.event(severity, code, `witness: ${message}`, hint),
        connected: () => lane.begunAnew('witness'),
        confirmed: (delivery, seq, at) => lane.ctx.step('confirmed', delivery, seq, at),
      },
    })
    ledger.attach(lane.outbox, this.witness)
    this.witness.start(position, this.filters)
  }

  /** Whether what reads now can stay with other settings; `target` is null where they cannot be had. */
  suits(from: Lane, to: Lane, target: DestinationTarget | null): boolean {
    if (from.enabled !== to.enabled || from.settings.witness !== to.settings.witness) return false
    if (!to.settings.witness) return true
    return target !== null && this.target !== null && this.lane.ctx.driver.sameWitness(this.target, target)
  }

  /** Another one takes the place of the one that reads. */
  async renew(): Promise<void> {
    const old = this.witness
    this.witness = null
    await this.lane.ctx.ledger.flush()
    await old?.stop()
    this.lastUnwritten ||= old !== null
    await this.begin()
  }

  /** Lets it listen to other filters, where it does not yet; `change` does it when nothing is on the wire. */
  async watch(filters: readonly string[], change: (listen: () => Promise<void>) => Promise<void>): Promise<void> {
    this.filters = filters
    const { witness } = this
    if (!witness || witness.listensTo(filters)) return
    this.mark()
    await change(() => witness.setFilters(filters))
  }

  /** What is numbered by now may have gone out under filters of before. */
  mark(): void {
    const { destination, ctx } = this.lane
    this.marks = new Map(ctx.deliveriesOf(destination.id).map((d) => [d, ctx.ledger.account(d).numberedThrough]))
  }

  /** Lets go of filters that nobody asks for any more, once everything that went out under them is judged. */
  private release(): void {
    const { ctx } = this.lane
    if (!this.marks || !this.witness) return
    for (const [d, mark] of this.marks) {
      if (!ctx.isThere(d)) continue
      const { known, storedThrough } = ctx.ledger.account(d).standing
      if (storedThrough < mark || known.through < mark) return
    }
    this.marks = null
    this.witness.release([])
  }

  /** Makes no further witness, and stops looking; the one that reads goes on until `end`. */
  async stop(): Promise<void> {
    this.stopReleasing()
    this.unplaced = false
    await this.preparing?.stop()
  }

  async end(): Promise<void> {
    await this.witness?.stop()
  }
}
