import type { DeliveryStore } from '~/core/delivery/delivery-store'
import type { Cancel, Clock } from '../clock/clock'
import { log, wordsOf } from '../log'
import type { JournalLimits } from './options'

/** How often the oldest are looked for, ms. */
const LOOK_MS = 20_000
/** What is so much beyond its limit is trimmed at once. */
const OVER = 1.05
/** While the disk is full, ms. */
const FULL_MS = 1000

export interface JournalOptions {
  store: Pick<DeliveryStore, 'journalBytes' | 'trimJournal'>
  clock: Clock
  destinationId: string
  limits: JournalLimits
  /** So many messages left it before their time, since the disk is full. */
  gaveWay(messages: number): void
}

/**
 * What went through an outbox and has its fate, kept for a while to be opened: no more than its limits, the oldest leave first. It is the
 * first to make room where the disk is full, and nothing waits for it.
 */
export class Journal {
  private limits: JournalLimits
  /** Octets in it; null: not known yet. */
  private held: number | null = null
  private timer: Cancel = () => undefined
  private working = false
  private isFull = false
  private given = 0
  private failed = false
  private over = false

  constructor(private readonly o: JournalOptions) {
    this.limits = o.limits
  }

  setLimits(limits: JournalLimits): void {
    this.limits = limits
    if (this.held !== null) this.look(0)
  }

  /** Whether what has its fate goes into it. */
  get keeps(): boolean {
    return !this.isFull && this.limits.bytes > 0 && this.limits.ageMs > 0
  }

  get bytes(): number {
    return this.held ?? 0
  }

  /** The disk of the database has no room, or has some again. */
  set full(full: boolean) {
    if (full === this.isFull) return
    this.isFull = full
    if (!full && this.given > 0) {
      this.o.gaveWay(this.given)
      this.given = 0
    }
    if (this.held !== null || full) this.look(0)
  }

  start(): void {
    this.look(0)
  }

  /** So many octets came into it. */
  took(bytes: number): void {
    if (this.held === null) return
    this.held += bytes
    if (this.held > OVER * this.limits.bytes) this.look(0)
  }

  private look(ms: number): void {
    this.timer()
    if (this.over) return
    this.timer = this.o.clock.after(ms, () => void this.work())
  }

  private async work(): Promise<void> {
    if (this.working) return
    this.working = true
    let more = false
    try {
      more = await this.trim()
      this.failed = false
    } catch (e) {
      if (!this.failed && !this.over) log('warn', 'journal', `its oldest could not be removed: ${wordsOf(e)}; tries again`)
      this.failed = true
    } finally {
      this.working = false
    }
    this.look(more ? 0 : this.isFull ? FULL_MS : LOOK_MS)
  }

  /** Removes some of the oldest; true: there are more to be removed. */
  private async trim(): Promise<boolean> {
    const { store, destinationId } = this.o
    this.held ??= await store.journalBytes(destinationId)
    const held = this.held
    const over = this.isFull ? held : Math.max(0, held - this.limits.bytes)
    const { rows, bytes, messages } = await store.trimJournal(destinationId, { ageMs: this.limits.ageMs, bytes: over })
    this.held = Math.max(0, this.held - bytes)
    if (this.isFull) this.given += messages
    return rows > 0
  }

  stop(): void {
    this.over = true
    this.timer()
  }
}
