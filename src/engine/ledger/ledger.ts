import type { Counts, Latency } from '~/contract/live'
import { Account, type AccountChange, defaultLimits, type WitnessView } from '~/core/delivery/account'
import { LatencyHour } from '~/core/delivery/latency'
import type { Db } from '~/store/database'
import { claimFlush, lastFlush, loadLatency, loadStandings, writeChanges, writeLatencies, writeWitnessSession } from '~/store/ledger'
import { type Cursor, deleteSegments, writeCursor } from '~/store/outbox'
import { Rate } from '../live/rate'
import { log, wordsOf } from '../log'
import type { Outbox } from '../outbox/outbox'
import type { Witness } from '../witness/witness'

const FLUSH_MS = 200
const JUDGE_MS = 1000
/** So many reports of the witness at once are reason to flush without waiting. */
const HURRY = 2000

interface Pending {
  number: number
  changes: AccountChange[]
  latencies: { delivery: number; minute: number }[]
  sessions: { id: string; filters: string[]; counted: Buffer }[]
  outboxes: { id: string; cursor: Cursor; remove: number[]; applied: () => void }[]
  after: (() => void)[]
}

/**
 * The account of every message, kept in memory and written in one transaction a few times a second, together with what
 * the outboxes may forget. The witness acknowledges to the broker only what is written here, so a death of the
 * engine loses nothing that it has seen.
 */
export class Ledger {
  readonly accounts = new Map<number, Account>()
  private readonly latency = new Map<number, LatencyHour>()
  private readonly outboxes = new Map<string, Outbox>()
  private readonly views = new Map<number, () => WitnessView | null>()
  private readonly witnesses = new Map<string, Witness>()
  private after: (() => void)[] = []
  private pending: Pending | null = null
  private number = 0
  private flushing: Promise<void> | null = null
  private timers: NodeJS.Timeout[] = []
  private inTrouble = false
  readonly confirmedRate = new Rate()
  readonly ackedRate = new Rate()
  readonly producedRate = new Rate()

  constructor(private readonly db: Db) {}

  async load(): Promise<void> {
    this.number = await lastFlush(this.db)
    for (const [delivery, standing] of await loadStandings(this.db)) this.accounts.set(delivery, new Account(delivery, standing))
    const minute = Math.floor(Date.now() / 60_000)
    for (const row of await loadLatency(this.db, minute - 60)) this.latencyHour(row.delivery).minutes.set(row.minute, row.histogram)
  }

  start(): void {
    this.timers = [
      setInterval(() => void this.flush(), FLUSH_MS),
      setInterval(() => {
        const now = Date.now()
        for (const a of this.accounts.values()) a.judge(now, this.views.get(a.delivery)?.() ?? null)
      }, JUDGE_MS),
    ]
  }

  /** The latencies of the last hour, to look at. */
  latencyHour(delivery: number): LatencyHour {
    let hour = this.latency.get(delivery)
    if (!hour) this.latency.set(delivery, (hour = new LatencyHour()))
    return hour
  }

  account(delivery: number): Account {
    let a = this.accounts.get(delivery)
    if (!a) this.accounts.set(delivery, (a = new Account(delivery)))
    return a
  }

  /** Says how to ask about the witness of a delivery (null: there is none), and after how long its messages are late. */
  watch(delivery: number, view: (() => WitnessView | null) | null, lateMs = defaultLimits.lateMs): void {
    const account = this.account(delivery)
    account.witnessed = view !== null
    account.limits = { ...account.limits, lateMs }
    if (view) this.views.set(delivery, view)
    else this.views.delete(delivery)
  }

  /** Whether somebody reads the far end of a delivery, and is there. */
  witnessOf(delivery: number): 'none' | 'away' | 'there' {
    const view = this.views.get(delivery)
    return view ? (view() === null ? 'away' : 'there') : 'none'
  }

  attach(outbox: Outbox, witness: Witness | null): void {
    this.outboxes.set(outbox.destinationId, outbox)
    if (witness) this.witnesses.set(outbox.destinationId, witness)
    else this.witnesses.delete(outbox.destinationId)
  }

  detach(destinationId: string): void {
    this.outboxes.delete(destinationId)
    this.witnesses.delete(destinationId)
  }

  /** Runs `then` when all that is known now is safely written. */
  afterFlush(then: () => void): void {
    this.after.push(then)
    if (this.after.length === HURRY) void this.flush()
  }

  latencyOf(delivery: number): Latency | null {
    const all = this.latency.get(delivery)?.total()
    if (!all || all.count === 0) return null
    return { p50: all.quantile(0.5)!, p95: all.quantile(0.95)!, p99: all.quantile(0.99)!, count: all.count }
  }

  countsOf(delivery: number): Counts | null {
    return this.accounts.get(delivery)?.counts(this.witnessOf(delivery) === 'away') ?? null
  }

  private collect(): Pending | null {
    const now = Date.now()
    for (const w of this.witnesses.values()) w.settleStrangers(now)
    const changes: AccountChange[] = []
    const latencies: Pending['latencies'] = []
    for (const a of this.accounts.values()) {
      if (!a.changed) continue
      const change = a.take()
      for (const ms of change.latencies) this.latencyHour(a.delivery).add(ms, now)
      if (change.latencies.length > 0) latencies.push({ delivery: a.delivery, minute: Math.floor(now / 60_000) })
      changes.push(change)
    }
    const outboxes: Pending['outboxes'] = []
    for (const [id, outbox] of this.outboxes) {
      const part = outbox.takeFlush()
      if (part) outboxes.push({ id, ...part })
    }
    const sessions: Pending['sessions'] = []
    for (const [id, witness] of this.witnesses) {
      const session = witness.takeSession()
      if (session) sessions.push({ id, ...session })
    }
    const after = this.after
    this.after = []
    if (changes.length === 0 && outboxes.length === 0 && sessions.length === 0) {
      for (const then of after) then()
      return null
    }
    return { number: ++this.number, changes, latencies, sessions, outboxes, after }
  }

  /** Writes all that is known; one at a time. Resolves when written or when the database was away. */
  flush(): Promise<void> {
    // Set before anything runs: what is collected may call for a flush itself.
    this.flushing ??= Promise.resolve()
      .then(() => this.write())
      .finally(() => {
        this.flushing = null
      })
    return this.flushing
  }

  private async write(): Promise<void> {
    this.pending ??= this.collect()
    const p = this.pending
    if (!p) return
    try {
      await this.db.transaction().execute(async (tx) => {
        if (!(await claimFlush(tx, p.number))) return
        await writeChanges(tx, p.changes)
        await writeLatencies(
          tx,
          p.latencies.flatMap((l) => {
            const histogram = this.latencyHour(l.delivery).minutes.get(l.minute)
            return histogram ? [{ ...l, histogram }] : []
          }),
        )
        for (const w of p.sessions) await writeWitnessSession(tx, w.id, w)
        for (const o of p.outboxes) {
          await writeCursor(tx, o.id, o.cursor)
          await deleteSegments(tx, o.id, o.remove)
        }
      })
      if (this.inTrouble) log('info', 'ledger', 'written again')
      this.inTrouble = false
    } catch (e) {
      if (!this.inTrouble) log('warn', 'ledger', `waits to be written: ${wordsOf(e)}`)
      this.inTrouble = true
      return
    }
    this.pending = null
    for (const o of p.outboxes) o.applied()
    for (const then of p.after) then()
    if (this.after.length >= HURRY) setImmediate(() => void this.flush())
  }

  async close(): Promise<void> {
    for (const t of this.timers) clearInterval(t)
    await this.flush()
    await this.flush()
  }
}
