import type { IPublishPacket } from 'mqtt-packet'
import type { Condition } from '~/contract/live'
import { disjoint } from '~/core/address/topic-filter'
import { ID_PROPERTY, parseMessageId } from '~/core/delivery/envelope'
import { failureOf } from '../failure'
import type { Ledger } from '../ledger/ledger'
import { Rate } from '../live/rate'
import { type MqttAccess, mqttFailure } from '../net/mqtt-access'
import { MqttReader } from './reader'

export interface WitnessHooks {
  event(severity: 'good' | 'warning' | 'trouble', code: string, message: string, hint: string): void
  confirmed(delivery: number, seq: number, at: number): void
}

/** Reads everything back at the far end of one destination and tells the ledger what came. */
export class Witness {
  private filters: string[] = []
  private subscribed: string[] = []
  private reader: MqttReader | null = null
  private stopped = false
  private wake: (() => void) | null = null
  private upSince: number | null = null
  private blindBefore = 0
  private readonly rate = new Rate()
  private last: number | null = null
  private status: Pick<Condition, 'state' | 'reason' | 'hint' | 'since'> = { state: 'starting', reason: 'connecting', hint: '', since: Date.now() }
  private readonly running: Promise<void>
  private readyWaiters: (() => void)[] = []
  foreign = 0

  constructor(
    private readonly access: MqttAccess,
    private readonly retryMs: number,
    private readonly installation: string,
    private readonly ledger: Ledger,
    filters: readonly string[],
    private readonly hooks: WitnessHooks,
  ) {
    this.filters = disjoint(filters)
    this.running = this.run()
  }

  present(): Condition {
    return { ...this.status, rate: this.rate.perSecond(), last: this.last }
  }

  /** Since when it listens to everything; null while it is away. */
  view(): { upSince: number; blindBefore: number } | null {
    return this.upSince === null ? null : { upSince: this.upSince, blindBefore: this.blindBefore }
  }

  /** Resolves when it listens, or after `ms`: nobody waits for ever for a witness. */
  async ready(ms: number): Promise<void> {
    if (this.upSince !== null || this.stopped) return
    await new Promise<void>((done) => {
      const timer = setTimeout(done, ms)
      this.readyWaiters.push(() => {
        clearTimeout(timer)
        done()
      })
    })
  }

  /** Whether these filters, made disjoint, are what it listens to. */
  listensTo(filters: readonly string[]): boolean {
    return disjoint(filters).join('\n') === this.filters.join('\n')
  }

  /** Listens to these filters from now on; resolves when the broker has them (or at once while away). */
  async setFilters(filters: readonly string[]): Promise<void> {
    this.filters = disjoint(filters)
    if (this.reader && this.upSince !== null) {
      try {
        await this.subscribe(this.reader)
      } catch (e) {
        this.trouble(e)
        this.wake?.()
      }
    }
  }

  private async subscribe(reader: MqttReader): Promise<void> {
    const wanted = this.filters
    const fresh = wanted.filter((f) => !this.subscribed.includes(f))
    const stale = this.subscribed.filter((f) => !wanted.includes(f))
    // Old ones go first: where an old and a new filter overlap, both at once would deliver twice.
    await reader.unsubscribe(stale)
    await reader.subscribe(fresh)
    this.subscribed = wanted
  }

  private set(state: Condition['state'], reason: string, hint = ''): void {
    this.status = { state, reason, hint, since: Date.now() }
  }

  private trouble(e: unknown): void {
    const failure = failureOf(e).code === 'engine.failed' ? mqttFailure(e, this.access, 'witness') : failureOf(e)
    if (this.status.reason !== failure.message) this.hooks.event('trouble', failure.code, failure.message, failure.hint)
    this.set('trouble', failure.message, failure.hint)
  }

  private async run(): Promise<void> {
    let wait = this.retryMs
    while (!this.stopped) {
      const ended = new Promise<void>((done) => {
        this.wake = done
      })
      try {
        const { reader, sessionPresent } = await MqttReader.connect(this.access, {
          message: (packet, done) => this.message(packet, done),
          closed: (why) => {
            this.trouble(why)
            this.wake?.()
          },
        })
        this.reader = reader
        if (!sessionPresent) {
          this.subscribed = []
          await this.subscribe(reader)
          this.blindBefore = Date.now()
        } else {
          await reader.unsubscribe(this.subscribed.filter((f) => !this.filters.includes(f)))
          await reader.subscribe(this.filters)
          this.subscribed = this.filters
        }
        this.upSince = Date.now()
        if (this.status.state === 'trouble') this.hooks.event('good', 'witness.up', 'listens again', '')
        this.set('running', `listens to ${this.filters.length === 1 ? this.filters[0] : `${this.filters.length} filters`}`)
        for (const w of this.readyWaiters.splice(0)) w()
        wait = this.retryMs
        await ended
      } catch (e) {
        this.trouble(e)
      }
      this.upSince = null
      this.reader?.close()
      this.reader = null
      if (this.stopped) break
      await new Promise<void>((done) => {
        const timer = setTimeout(done, wait)
        this.wake = () => {
          clearTimeout(timer)
          done()
        }
      })
      wait = Math.min(wait * 2, this.retryMs * 8)
    }
  }

  private message(packet: IPublishPacket, done: () => void): void {
    const now = Date.now()
    this.rate.add(1, now)
    this.last = now
    const property = packet.properties?.userProperties?.[ID_PROPERTY]
    const id = parseMessageId(this.installation, Array.isArray(property) ? property[0] : property)
    const account = id ? this.ledger.accounts.get(id.delivery) : undefined
    if (!id || !account) {
      this.foreign++
      done()
      return
    }
    const seen = account.seen(id.seq, now, packet.dup)
    if (seen === 'foreign') this.foreign++
    if (seen === 'confirmed' || seen === 'late') {
      this.ledger.confirmedRate.add(1, now)
      this.hooks.confirmed(id.delivery, id.seq, now)
    }
    this.ledger.afterFlush(done)
  }

  async stop(): Promise<void> {
    this.stopped = true
    this.upSince = null
    this.reader?.close()
    this.wake?.()
    for (const w of this.readyWaiters.splice(0)) w()
    await this.running
  }
}
