import type { Account } from '~/core/delivery/account'
import { type HighWater, type HighWaterStore, RESERVE_LEAST, RESERVE_TIMES } from '~/core/delivery/high-water'
import type { Clock } from '../clock/clock'

/** What nobody asked for so long after the start is a delivery that is no more, ms. */
const GONE_MS = 60_000
/** What was written is noted after each flush, but this many ms a delivery lie between: it is written whole. */
const NOTE_EACH_MS = 1

/**
 * Keeps a node's own memory of the numbers that it gave, beside the database: a database that is brought back from an older
 * copy would else give them again. Numbers are reserved ahead; those beyond are noted before they are given.
 */
export class Reserves {
  private flush = 0
  private notedAt = Number.NEGATIVE_INFINITY
  /** By delivery, the highest number given when it was noted last. */
  private readonly given = new Map<number, number>()
  private begun = false
  /** Something was flushed that is not noted. */
  private behind = false
  private notedAppended = 0
  /** By delivery, what the database has forgotten. */
  private forgotten = new Map<number, number>()
  /** Those of which the database and the far end have not been told yet. Until then whoever starts next must find it older too. */
  private readonly untold = new Set<number>()
  private tellsAll = true
  private begunAt = 0

  constructor(
    private readonly store: HighWaterStore,
    private readonly clock: Clock,
    private readonly accounts: Map<number, Account>,
  ) {}

  /** Compares with the database, whose last flush is `flush`: gives the numbers, by delivery, that it has forgotten. */
  begin(flush: number): Map<number, number> {
    const noted = this.store.read()
    const { forgotten } = this
    const knownOf = (delivery: number) => this.accounts.get(delivery)?.numberedThrough ?? 0
    if (noted && (noted.flush > flush || noted.deliveries.some((d) => d.through > knownOf(d.delivery))))
      for (const d of noted.deliveries) {
        if (d.reserved > knownOf(d.delivery)) forgotten.set(d.delivery, d.reserved)
      }
    // They are never given again, whether their destination is there yet or not.
    for (const [delivery, through] of forgotten) this.accounts.get(delivery)?.given(through)
    for (const delivery of forgotten.keys()) this.untold.add(delivery)
    this.flush = forgotten.size > 0 ? noted!.flush : flush
    this.begunAt = this.clock.mono()
    this.begun = true
    for (const account of this.accounts.values()) this.watch(account)
    return forgotten
  }

  /** An account that is new. */
  keep(account: Account): void {
    this.accounts.set(account.delivery, account)
    account.given(this.forgotten.get(account.delivery) ?? 0)
    if (this.begun) this.watch(account)
  }

  private watch(account: Account): void {
    account.reserved = account.numberedThrough
    account.reserve = () => this.note()
  }

  /** What the database has forgotten of a delivery counts as unknown now, and its far end has begun anew. */
  told(delivery: number): void {
    this.untold.delete(delivery)
  }

  /** A flush is made of what is known now. */
  collecting(): void {
    // Deliveries that are no more are nobody's.
    if (this.untold.size > 0 && this.clock.mono() - this.begunAt > GONE_MS)
      for (const delivery of this.untold) if (!this.accounts.has(delivery)) this.untold.delete(delivery)
    this.tellsAll = this.untold.size === 0
  }

  flushed(flush: number): void {
    if (this.tellsAll) this.flush = flush
    this.behind = true
    if (this.clock.mono() - this.notedAt >= this.accounts.size * NOTE_EACH_MS) this.note()
  }

  /** Notes what is not noted yet; called now and then. */
  catchUp(): void {
    if (this.behind || this.appended() > this.notedAppended) this.note()
  }

  /** It ends well: nothing was given that the database does not hold. */
  close(): void {
    this.store.write(this.noted((a) => (this.untold.has(a.delivery) ? a.numberedThrough : a.standing.storedThrough)))
  }

  /** How much this run has put into outboxes, as one rising number. */
  private appended(): number {
    let sum = 0
    for (const a of this.accounts.values()) sum += a.appendedThrough
    return sum
  }

  private note(): void {
    this.notedAt = this.clock.mono()
    this.behind = false
    this.notedAppended = this.appended()
    const h = this.noted((a) => {
      const lately = a.numberedThrough - (this.given.get(a.delivery) ?? a.numberedThrough)
      return a.numberedThrough + Math.max(RESERVE_LEAST, lately * RESERVE_TIMES)
    })
    this.store.write(h)
    for (const { delivery, reserved } of h.deliveries) {
      const account = this.accounts.get(delivery)
      if (!account) continue
      account.reserved = reserved
      this.given.set(delivery, account.numberedThrough)
    }
  }

  private noted(reserved: (a: Account) => number): HighWater {
    const deliveries = [...this.accounts.values()].map((a) => ({
      delivery: a.delivery,
      through: a.appendedThrough,
      reserved: reserved(a),
    }))
    // What is not taken up yet must not be forgotten a second time.
    for (const delivery of this.untold)
      if (!this.accounts.has(delivery)) deliveries.push({ delivery, through: 0, reserved: this.forgotten.get(delivery)! })
    return { flush: this.flush, deliveries }
  }
}
