import type { Counts, Latency } from '~/contract/live'
import { Account, type WitnessView } from '~/core/delivery/account'
import { type Cursor, type DeliveryStore, Fenced, type FlushWrite, type KeptSegment, type StoreTrouble } from '~/core/delivery/delivery-store'
import type { HighWaterStore } from '~/core/delivery/high-water'
import { LatencyHour } from '~/core/delivery/latency'
import { RangeSet } from '~/core/delivery/ranges'
import { emptyStanding } from '~/core/delivery/verdict'
import type { Cancel, Clock } from '../clock/clock'
import { Rate } from '../live/rate'
import { log, wordsOf } from '../log'
import { Reserves } from './reserves'

const FLUSH_MS = 200
const JUDGE_MS = 1000
/** After so long with nothing to write something is written all the same, ms. */
const WRITE_ANYWAY_MS = 10_000
/** So many reports of a witness at once are reason to flush without waiting. */
const HURRY = 2000

/** What waits for a flush: a function and what it is called with, in turns, since there is one a message. */
type After = unknown[]

function callAll(after: After): void {
  for (let i = 0; i < after.length; i += 2) (after[i] as (of: unknown) => void)(after[i + 1])
}

/** What the ledger writes together with its counts, so that all of it is always as of one moment. */
export interface FlushPart {
  cursor: Cursor
  remove: number[]
  keep: KeptSegment[]
  applied: () => void
}

/** The outbox of a destination, as the ledger sees it. */
export interface OutboxPart {
  readonly destinationId: string
  takeFlush(): FlushPart | null
}

/** The witness of a destination, as the ledger sees it. */
export interface WitnessPart {
  settleStrangers(): void
  takePosition(): Uint8Array | null
  view(): WitnessView | null
  probe(): void
}

interface Pending {
  write: FlushWrite
  applied: (() => void)[]
  after: After
}

export interface LedgerOptions {
  store: DeliveryStore
  clock: Clock
  /** Another engine writes to this database. */
  fenced(): void
  trouble(t: { kind: StoreTrouble; words: string } | null): void
  troubleOf(e: unknown): StoreTrouble
  highWater: HighWaterStore
}

/**
 * The account of every message, kept in memory and written in one transaction a few times a second, together with what
 * the outboxes may forget. The witness acknowledges to the other side only what is written here, so a death of the
 * engine loses nothing that it has seen.
 */
export class Ledger {
  readonly accounts = new Map<number, Account>()
  private readonly latency = new Map<number, LatencyHour>()
  private readonly outboxes = new Map<string, OutboxPart>()
  private readonly witnesses = new Map<string, WitnessPart>()
  /** Which destination a delivery goes to, when a witness is meant to read its far end. */
  private readonly witnessedAt = new Map<number, string>()
  private after: After = []
  private pending: Pending | null = null
  private number = 0
  private writtenAt = Number.NEGATIVE_INFINITY
  private flushing: Promise<void> | null = null
  private timers: Cancel[] = []
  private troubled = false
  private over = false
  readonly confirmedRate = new Rate()
  readonly ackedRate = new Rate()
  readonly producedRate = new Rate()

  private readonly reserves: Reserves
  /** The database is older than what this node last wrote: by delivery, the numbers that were given and that it does not know. */
  private forgotten = new Map<number, number>()

  constructor(private readonly o: LedgerOptions) {
    this.reserves = new Reserves(o.highWater, o.clock, this.accounts)
  }

  /** Whether the database came back from an older copy than what this node knows. */
  get older(): boolean {
    return this.forgotten.size > 0
  }

  /** Counts what the database has forgotten of these deliveries as unknown, once what it does know is counted. Gives how many. */
  memoryLost(deliveries: readonly number[]): number {
    let lost = 0
    for (const d of deliveries) lost += this.account(d).memoryLost(this.forgotten.get(d) ?? 0, this.o.clock.wall())
    return lost
  }

  /** The far end of these deliveries has begun anew: nothing more is to be done for what the database has forgotten of them. */
  begunAnew(deliveries: readonly number[]): void {
    for (const d of deliveries) this.reserves.told(d)
  }

  async load(): Promise<void> {
    const minute = Math.floor(this.o.clock.wall() / 60_000)
    const { flush, standings, given, latencies } = await this.o.store.loadLedger(minute - 60)
    this.number = flush
    for (const [delivery, standing] of standings) this.accounts.set(delivery, new Account(delivery, standing))
    for (const [delivery, seq] of given) this.account(delivery).given(seq)
    this.forgotten = this.reserves.begin(flush)
    for (const row of latencies) this.latencyHour(row.delivery).set(row.minute, row.histogram)
  }

  start(): void {
    const { clock } = this.o
    this.timers = [clock.every(FLUSH_MS, () => void this.flush()), clock.every(JUDGE_MS, () => this.judge())]
  }

  private judge(): void {
    const now = this.o.clock.mono()
    const probe = new Set<WitnessPart>()
    for (const a of this.accounts.values()) {
      const witness = this.witnesses.get(this.witnessedAt.get(a.delivery) ?? '')
      if (a.judge(now, witness?.view() ?? null) > 0 && witness) probe.add(witness)
    }
    for (const witness of probe) witness.probe()
    this.reserves.catchUp()
  }

  /** The latencies of the last hour, to look at. */
  latencyHour(delivery: number): LatencyHour {
    let hour = this.latency.get(delivery)
    if (!hour) this.latency.set(delivery, (hour = new LatencyHour()))
    return hour
  }

  account(delivery: number): Account {
    let a = this.accounts.get(delivery)
    if (!a) this.reserves.keep((a = new Account(delivery, emptyStanding())))
    return a
  }

  /** Says by which rules the messages of a delivery are judged. */
  watch(delivery: number, rules: { destinationId: string; witnessed: boolean; lateMs: number; byId: boolean; keepsOnce?: boolean }): void {
    const account = this.account(delivery)
    account.witnessed = rules.witnessed
    account.byId = rules.byId
    account.keepsOnce = rules.keepsOnce ?? false
    account.limits = { ...account.limits, lateMs: rules.lateMs }
    if (rules.witnessed) this.witnessedAt.set(delivery, rules.destinationId)
    else this.witnessedAt.delete(delivery)
  }

  /** Whether another witness than that of this lane reads a delivery back. */
  isWatchedElsewhere(delivery: number, lane: string): boolean {
    const at = this.witnessedAt.get(delivery)
    return at !== undefined && at !== lane
  }

  /** A delivery is no more. */
  forget(delivery: number): void {
    this.accounts.delete(delivery)
    this.latency.delete(delivery)
    this.witnessedAt.delete(delivery)
  }

  /** Whether somebody reads the far end of a delivery, and is there. */
  witnessOf(delivery: number): 'none' | 'away' | 'there' {
    const destination = this.witnessedAt.get(delivery)
    if (destination === undefined) return 'none'
    return this.witnesses.get(destination)?.view() ? 'there' : 'away'
  }

  attach(outbox: OutboxPart, witness: WitnessPart | null): void {
    this.outboxes.set(outbox.destinationId, outbox)
    if (witness) this.witnesses.set(outbox.destinationId, witness)
    else this.witnesses.delete(outbox.destinationId)
  }

  detach(destinationId: string): void {
    this.outboxes.delete(destinationId)
    this.witnesses.delete(destinationId)
  }

  /**
   * Says which numbers the outbox of a destination still holds after a start: others of its deliveries that have no verdict
   * can't get one any more.
   */
  resolveGone(deliveries: readonly number[], there: readonly (readonly [delivery: number, first: number, last: number])[]): number {
    const sets = new Map<number, RangeSet>(deliveries.map((d) => [d, new RangeSet()]))
    for (const [d, first, last] of [...there].sort((a, b) => a[1] - b[1])) {
      const set = sets.get(d)
      if (set) set.append(Math.max(first, (set.max ?? 0) + 1), last)
    }
    let gone = 0
    for (const [d, set] of sets) gone += this.account(d).resolveGone(set)
    return gone
  }

  /** Calls `then` with `of` when all that is known now is safely written. */
  afterFlush<T>(then: (of: T) => void, of: T): void {
    this.after.push(then, of)
    if (this.after.length === 2 * HURRY) void this.flush()
  }

  latencyOf(delivery: number): Latency | null {
    return this.latency.get(delivery)?.figures(this.o.clock.mono()) ?? null
  }

  countsOf(delivery: number): Counts | null {
    return this.accounts.get(delivery)?.counts(this.witnessOf(delivery) === 'away') ?? null
  }

  private collect(): Pending | null {
    const minute = Math.floor(this.o.clock.wall() / 60_000)
    this.reserves.collecting()
    for (const w of this.witnesses.values()) w.settleStrangers()
    const write: FlushWrite = { number: 0, changes: [], latencies: [], positions: [], outboxes: [] }
    const applied: (() => void)[] = []
    for (const a of this.accounts.values()) {
      if (!a.changed) continue
      const change = a.take()
      if (change.latencies.length > 0) {
        const hour = this.latencyHour(a.delivery)
        for (const ms of change.latencies) hour.add(ms, minute)
        write.latencies.push({ delivery: a.delivery, minute, histogram: hour.minutes.get(minute)! })
      }
      write.changes.push(change)
    }
    for (const [destinationId, outbox] of this.outboxes) {
      const part = outbox.takeFlush()
      if (!part) continue
      write.outboxes.push({ destinationId, cursor: part.cursor, remove: part.remove, keep: part.keep })
      applied.push(part.applied)
    }
    for (const [destinationId, witness] of this.witnesses) {
      const position = witness.takePosition()
      if (position) write.positions.push({ destinationId, position })
    }
    const after = this.after
    this.after = []
    // An empty one now and then: only by writing is it found that the database is another one.
    const idle = write.changes.length + write.outboxes.length + write.positions.length === 0
    if (idle && this.o.clock.mono() - this.writtenAt < WRITE_ANYWAY_MS) {
      callAll(after)
      return null
    }
    write.number = ++this.number
    return { write, applied, after }
  }

  /** Writes all that is known; one at a time. Resolves when written or when the database was away. */
  flush(): Promise<void> {
    if (this.over) return Promise.resolve()
    // Set before anything runs: what is collected may call for a flush itself.
    this.flushing ??= Promise.resolve()
      .then(() => this.write())
      .finally(() => {
        this.flushing = null
      })
    return this.flushing
  }

  /** Writes all that is known now; false: it could not be written. */
  async written(): Promise<boolean> {
    let done = false
    this.afterFlush(() => {
      done = true
    }, null)
    await this.flush()
    // One that was under way, or that could not be written before, holds nothing of it.
    if (!done) await this.flush()
    return done
  }

  private async write(): Promise<void> {
    this.pending ??= this.collect()
    const p = this.pending
    if (!p) return
    try {
      await this.o.store.flush(p.write)
    } catch (e) {
      if (e instanceof Fenced) {
        this.over = true
        this.o.fenced()
        return
      }
      if (!this.troubled) log('warn', 'ledger', `waits to be written: ${wordsOf(e)}`)
      this.troubled = true
      this.o.trouble({ kind: this.o.troubleOf(e), words: wordsOf(e) })
      return
    }
    if (this.troubled) {
      log('info', 'ledger', 'written again')
      this.o.trouble(null)
    }
    this.troubled = false
    this.pending = null
    this.writtenAt = this.o.clock.mono()
    this.reserves.flushed(p.write.number)
    for (const f of p.applied) f()
    callAll(p.after)
    if (this.after.length >= 2 * HURRY) this.o.clock.soon(() => void this.flush())
  }

  async close(): Promise<void> {
    for (const cancel of this.timers) cancel()
    await this.flush()
    await this.flush()
    if (!this.over) this.reserves.close()
    this.over = true
  }
}
