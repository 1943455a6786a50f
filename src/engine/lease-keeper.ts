import { type Cancel, type Clock, sleep } from './clock/clock'
import { log, wordsOf } from './log'

/** How often the lease is confirmed, ms. */
const CONFIRM_MS = 1000
/**
 * What is sent rests on a lease that was confirmed this long ago at most, ms: less than the time after which another engine
 * may take over, by more than any message is under way to the wire.
 */
const VALID_MS = 4000
/** So long after the last confirmation connections are given up too, ms: the other engine needs their names. */
const HOLD_MS = 6000

/** The turn of the one engine that may write; see `Lease` in the store. */
export interface LeaseStore {
  readonly epoch: number
  take(): Promise<boolean>
  confirm(): Promise<boolean>
  release(): Promise<void>
  end(): Promise<void>
}

/** Sees to it that only one engine at a time sends and writes. */
export class LeaseKeeper {
  /** When the last confirmation that came through was asked for, by both clocks: a machine that slept shows in the wall clock only. */
  private asked = { mono: Number.NEGATIVE_INFINITY, wall: 0 }
  private stop: Cancel = () => undefined
  private busy = false
  private over = false

  constructor(
    private readonly lease: LeaseStore,
    private readonly clock: Clock,
    private readonly takenOver: () => void,
  ) {}

  get epoch(): number {
    return this.lease.epoch
  }

  /** Waits until no other engine has it. */
  async acquire(): Promise<void> {
    for (let said = ''; !this.over; await sleep(this.clock, 300)) {
      const asked = { mono: this.clock.mono(), wall: this.clock.wall() }
      let why = 'another engine works on this database; waiting to take over'
      try {
        if (await this.lease.take()) {
          this.asked = asked
          this.stop = this.clock.every(CONFIRM_MS, () => void this.confirm())
          return
        }
      } catch (e) {
        why = `the database is away: ${wordsOf(e)}`
      }
      if (why !== said) log('info', 'engine', why)
      said = why
    }
  }

  private async confirm(): Promise<void> {
    if (this.busy || this.over) return
    this.busy = true
    const asked = { mono: this.clock.mono(), wall: this.clock.wall() }
    try {
      if (await this.lease.confirm()) this.asked = asked
      else if (!this.over) this.lost()
    } catch {
      // The database is away: those who store say so. Until it is back nothing is sent.
    } finally {
      this.busy = false
    }
  }

  /** Another engine has taken over. */
  lost(): void {
    if (this.over) return
    this.over = true
    this.stop()
    this.asked = { mono: Number.NEGATIVE_INFINITY, wall: 0 }
    this.takenOver()
  }

  /** Whether this engine may send: no other can have begun. */
  valid(): boolean {
    const wallAge = this.clock.wall() - this.asked.wall
    return this.clock.mono() - this.asked.mono < VALID_MS && wallAge < 2 * VALID_MS
  }

  /** Whether it may keep its connections: whoever cannot confirm in time makes room for another engine. */
  mayHold(): boolean {
    return this.clock.mono() - this.asked.mono < HOLD_MS
  }

  async release(): Promise<void> {
    this.stop()
    if (this.over) return this.lease.end()
    this.over = true
    await this.lease.release()
  }
}
