import type { Failure } from '~/contract/failure'
import type { Condition } from '~/contract/live'
import type { Account, Seen, Sighting, WitnessView } from '~/core/delivery/account'
import { parseMessageId } from '~/core/delivery/envelope'
import { type Cancel, type Clock, sleep, within } from '../clock/clock'
import { Retrying } from '../clock/retrying'
import type { Acquaintance, FarEnd, FarSighting, FarSink, Position } from '../destinations/far-end'
import { failureOf } from '../failure'
import type { Ledger } from '../ledger/ledger'
import { Rate } from '../live/rate'
import { Strangers } from './strangers'
import type { TopicIndex } from './topics'

export interface WitnessHooks {
  /** It listens at the far end. */
  connected(): void
  event(severity: 'good' | 'warning' | 'trouble', code: string, message: string, hint: string): void
  confirmed(delivery: number, seq: number, at: number): void
}

export interface WitnessOptions {
  clock: Clock
  farEnd: (sink: FarSink) => FarEnd
  retryMs: number
  installation: string
  /** Whether messages carry their id; else they are known by topic and payload. */
  byId: boolean
  ledger: Ledger
  topics: TopicIndex
  /** Whether a delivery goes out over its connection: what others send to the same place is theirs to judge. */
  owns(delivery: number): boolean
  /** Whether this engine may speak for the installation now: else another one may be listening under the same name. */
  mayListen: () => boolean
  /** How long it is until one more connection may be made there, ms. */
  connectWait: () => number
  hooks: WitnessHooks
}

/** What may not be read is asked for again so often, ms. */
const ASK_AGAIN_MS = 60_000
/** The right to listen is looked at so often, ms. */
const LOOK_MS = 500
/** What comes on topics of nobody is compared with so many open messages a ms. */
const STRAYED_A_MS = 1000
/** What has come is read for so long at most before a witness ends, ms. */
const DRAIN_MS = 2000
/** That something passed unseen is told so often at most, ms. */
const UNSEEN_MS = 60_000
/** A probe without answer for so long is told, ms. */
const SLOW_MS = 5000

/** One of our messages as it came: an object of few parts, since there is one for each. */
class OurCopy implements Sighting {
  readonly topic: string
  readonly digest: number | null
  readonly at: number
  readonly mono: number

  constructor(
    private readonly hear: (how: Seen, copy: OurCopy, sentMono: number | null) => void,
    readonly delivery: number,
    readonly seq: number,
    readonly s: FarSighting,
  ) {
    this.topic = s.topic
    this.digest = s.digest
    this.at = s.at
    this.mono = s.mono
  }

  counted(how: Seen, sentMono: number | null): void {
    this.hear(how, this, sentMono)
  }
}

/** Reads everything back at the far end of one destination and tells the ledger what came. */
export class Witness {
  private readonly far: FarEnd
  private readonly retrying: Retrying
  private readonly strangers: Strangers
  private strayedNext = 0
  /** Accounts with copies that wait for their message to go out. */
  private readonly withEarly = new Set<Account>()
  private filters: readonly string[] = []
  private refused: ReadonlyMap<string, string> = new Map()
  private connected = false
  private unseenTold = Number.NEGATIVE_INFINITY
  private lostMono = Number.NEGATIVE_INFINITY
  private over: () => void = () => undefined
  private readyWaiters: (() => void)[] = []
  /** Nothing tells the next one where this one began. */
  private untold = false
  /** It waits for the database to take what is known now. */
  private writing = false
  private readonly rate = new Rate()
  private last: number | null = null
  private status: Pick<Condition, 'state' | 'reason' | 'hint' | 'since'>
  private askAgain: Cancel

  constructor(private readonly o: WitnessOptions) {
    this.status = { state: 'starting', reason: 'connecting', hint: '', since: o.clock.wall() }
    this.retrying = new Retrying(o.clock, { firstMs: o.retryMs, mostMs: o.retryMs * 8 })
    this.strangers = new Strangers(o.topics, {
      ours: (account, seq, s) => this.ours(account, seq, s),
      nobodys: (s) => this.foreign(s, false),
    })
    this.far = o.farEnd({
      sighting: (s) => this.sighting(s),
      acquaintance: (id) => this.acquaintance(id),
      lost: (why) => {
        this.lostMono = o.clock.mono()
        this.trouble(why)
        this.over()
      },
      hurry: () => void o.ledger.flush(),
      refused: (filters) => this.mayNotRead(filters),
      unseen: (why) => this.unseen(why),
      damaged: (what, why) =>
        o.hooks.event('warning', 'witness.damaged', `${what} cannot be read: ${why}`, 'What is in it counts as missing; look at what keeps it'),
    })
    this.askAgain = o.clock.every(ASK_AGAIN_MS, () => {
      if (this.connected && this.refused.size > 0) void this.far.watch(this.filters)
    })
  }

  /** Begins to read where an earlier run was. */
  start(position: Position, filters: readonly string[]): void {
    this.filters = filters
    this.untold = !(position instanceof Uint8Array)
    this.far.restore(position)
    void this.far.watch(filters)
    this.retrying.start(
      () => this.run(),
      (e) => this.trouble(failureOf(e, 'witness')),
    )
  }

  present(): Condition {
    const { clock } = this.o
    const silent = this.connected ? this.far.silentMs() : 0
    const status =
      silent > SLOW_MS
        ? {
            ...this.status,
            state: 'trouble' as const,
            reason: `the other side has not answered for ${Math.round(silent / 1000)} s: what it holds back cannot be judged`,
            hint: 'The link is slow or half dead; nothing is called missing meanwhile',
          }
        : this.status
    return { ...status, rate: this.rate.perSecond(clock.mono()), last: this.last }
  }

  /** What it can say now; null while it is away. */
  view(): WitnessView | null {
    return this.connected ? this.far.view() : null
  }

  /** How far it has come, for the ledger to write with its counts; null when nothing changed. */
  takePosition(): Uint8Array | null {
    return this.far.position()
  }

  /** Messages wait for nothing but a sign that the other side holds nothing back. */
  probe(): void {
    if (this.connected) this.far.probe()
  }

  /** Filters that something not yet judged may still come under. */
  release(needed: readonly string[]): void {
    this.far.release(needed)
  }

  /** Whether its link was lost at that moment, or since. */
  lostSince(mono: number): boolean {
    return this.lostMono >= mono
  }

  /** The other side is there: tries now if it was waiting to. */
  hurry(): void {
    if (!this.connected) this.retrying.hurry()
  }

  /**
   * Resolves when it listens, or after `ms`: nobody waits for ever for a witness. But for the first one of all the time counts only while
   * it is not the database that keeps it, which `kept` hears: what went out now would lie before the place from which the next one reads,
   * should this one be killed.
   */
  async ready(ms: number, kept: () => void = () => undefined): Promise<void> {
    if (this.connected || this.retrying.stopped) return
    const listens = new Promise<true>((done) => this.readyWaiters.push(() => done(true)))
    for (let left = ms; left > 0 && !this.retrying.stopped; ) {
      if (await within(this.o.clock, Math.min(LOOK_MS, left), listens)) return
      if (this.waitsForDatabase) {
        kept()
        left = ms
      } else left -= LOOK_MS
    }
  }

  /** It would be the first to listen, if only the database took where it begins, or said whether it may. */
  get waitsForDatabase(): boolean {
    return this.untold && !this.retrying.stopped && (this.writing || !this.o.mayListen())
  }

  /** Whether these are what it listens to. */
  listensTo(filters: readonly string[]): boolean {
    return [...filters].sort().join('\n') === [...this.filters].sort().join('\n')
  }

  /** Listens to these filters from now on; resolves when the other side has them (or at once while away). */
  async setFilters(filters: readonly string[]): Promise<void> {
    this.filters = filters
    await this.far.watch(filters)
    this.tellRunning()
  }

  private set(state: Condition['state'], reason: string, hint = ''): void {
    this.status = { state, reason, hint, since: state === this.status.state ? this.status.since : this.o.clock.wall() }
  }

  private trouble(failure: Failure): void {
    this.connected = false
    if (this.retrying.stopped) return
    if (this.status.reason !== failure.message) this.o.hooks.event('trouble', failure.code, failure.message, failure.hint)
    this.set('trouble', failure.message, failure.hint)
  }

  /** Told once a minute, however often it is so. */
  private unseen({ code, message, hint }: Failure): void {
    const now = this.o.clock.mono()
    if (now - this.unseenTold < UNSEEN_MS) return
    this.unseenTold = now
    this.o.hooks.event('warning', code, message, hint)
  }

  private mayNotRead(filters: ReadonlyMap<string, string>): void {
    for (const [filter, why] of filters)
      if (!this.refused.has(filter))
        this.o.hooks.event(
          'warning',
          'witness.refused',
          `may not read ${filter}: ${why}; of what goes there nobody can say whether it arrives`,
          'Let it read there, as a rule by a permission of its certificate or log-in',
        )
    this.refused = new Map(filters)
    this.tellRunning()
  }

  private tellRunning(): void {
    if (!this.connected) return
    const n = this.filters.length
    const { size } = this.refused
    if (size === 0) this.set('running', `listens to ${n === 1 ? this.filters[0] : `${n} addresses`}`)
    else {
      const [[filter, why] = ['', '']] = this.refused
      const which = n === 1 ? '' : `${size} of ${n} addresses: `
      this.set('running', `may not read ${which}${filter}: ${why}`, 'Give it the permission to read there')
    }
  }

  private async run(): Promise<'again' | 'wait'> {
    let over = false
    const ended = new Promise<void>((done) => {
      this.over = () => {
        over = true
        done()
      }
    })
    if (!this.o.mayListen()) {
      this.set('trouble', 'does not listen: while the database is away another engine may', 'Bring the database back')
      await sleep(this.o.clock, LOOK_MS)
      return 'again'
    }
    const wait = this.o.connectWait()
    if (wait > 0) {
      await sleep(this.o.clock, Math.min(wait, LOOK_MS))
      return 'again'
    }
    this.far.prepare()
    if (!(await this.written())) return 'again'
    await this.far.connect()
    if (this.retrying.stopped || over) return 'wait'
    // Where it begins is written before it counts as there, and anything is sent: after a kill the next one goes on from there.
    if (!(await this.written())) {
      this.far.close()
      return 'again'
    }
    if (this.retrying.stopped || over) return 'wait'
    if (this.status.state === 'trouble') this.o.hooks.event('good', 'witness.up', 'listens again', '')
    this.connected = true
    this.untold = false
    this.o.hooks.connected()
    this.retrying.succeeded()
    this.tellRunning()
    for (const w of this.readyWaiters.splice(0)) w()
    const stopLooking = this.o.clock.every(LOOK_MS, () => {
      if (this.o.mayListen()) return
      this.connected = false
      this.far.close()
      this.over()
    })
    await ended
    stopLooking()
    return this.o.mayListen() ? 'wait' : 'again'
  }

  /** Waits until all that is known now is written; false: it may not listen any more. */
  private async written(): Promise<boolean> {
    const { ledger, clock, mayListen } = this.o
    let done = false
    const flushed = new Promise<void>((wake) =>
      ledger.afterFlush(() => {
        done = true
        wake()
      }, null),
    )
    void ledger.flush()
    this.writing = true
    while (!done && mayListen() && !this.retrying.stopped) await within(clock, LOOK_MS, flushed)
    this.writing = false
    return done
  }

  private acquaintance(id: string): Acquaintance | null {
    const ours = parseMessageId(this.o.installation, id)
    const account = ours && this.o.owns(ours.delivery) ? this.o.ledger.accounts.get(ours.delivery) : undefined
    return ours && account ? { arrived: account.hasArrived(ours.seq), once: account.wentOnce(ours.seq) } : null
  }

  private sighting(s: FarSighting): void {
    this.rate.add(1, s.mono)
    this.last = s.at
    if (!this.o.byId) return this.strangers.add(s)
    const ours = parseMessageId(this.o.installation, s.id)
    if (ours && !this.o.owns(ours.delivery)) return this.count('foreign', 0, 0, null, s)
    const account = ours ? this.o.ledger.accounts.get(ours.delivery) : undefined
    if (ours && account) this.ours(account, ours.seq, s)
    else this.foreign(s, ours !== null)
  }

  private ours(account: Account, seq: number, s: FarSighting): void {
    const { delivery } = account
    if ((s.repeated || (s.held && account.wentOnce(seq))) && account.hasArrived(seq)) return this.count('doubled', delivery, seq, null, s)
    account.seen(new OurCopy(this.counted, delivery, seq, s))
    if (account.earlyCount > 0) this.withEarly.add(account)
  }

  /** What was seen and not counted was not let go of either: to the next witness it comes again, and must not count twice. */
  private forgetEarly(): void {
    for (const account of this.withEarly) account.forgetEarly((copy) => copy instanceof OurCopy && copy.s.comesAgain)
    this.withEarly.clear()
  }

  private readonly counted = (how: Seen, copy: OurCopy, sentMono: number | null) => this.count(how, copy.delivery, copy.seq, sentMono, copy.s)

  private count(how: Seen, delivery: number, seq: number, sentMono: number | null, s: FarSighting): void {
    const { ledger, hooks } = this.o
    if (how !== 'foreign' && how !== 'doubled') {
      ledger.confirmedRate.add(1, s.mono)
      hooks.confirmed(delivery, seq, s.at)
    }
    this.far.counted(s.token, delivery, seq, sentMono)
    ledger.afterFlush(this.safe, s.token)
  }

  private readonly safe = (token: unknown) => this.far.safe(token)

  /** Something that carries no id of ours. `removed`: it does, but of a publication that is no more. */
  private foreign(s: FarSighting, removed: boolean): void {
    const [owner] = removed || s.repeated ? [] : this.o.topics.accounts(s.topic)
    owner?.foreign(s.at)
    if (!owner && !this.o.byId && !s.repeated) this.strayed(s)
    this.count('foreign', 0, 0, null, s)
  }

  /** On a topic that nobody writes to: is it what was sent to another one? The more there is to look through, the seldomer. */
  private strayed(s: FarSighting): void {
    const { digest } = s
    if (s.mono < this.strayedNext || digest === null) return
    let looked = 0
    for (const account of this.o.ledger.accounts.values()) {
      if (account.elsewhere || !this.o.topics.has(account)) continue
      looked += account.openCount
      if (account.strays(s.topic, digest)) break
    }
    this.strayedNext = s.mono + looked / STRAYED_A_MS
  }

  /** Tries again whose the unknown payloads are; the ledger calls it before it writes. */
  settleStrangers(): void {
    this.strangers.settle(this.o.clock.mono())
  }

  async stop(): Promise<void> {
    this.connected = false
    this.askAgain()
    const stopping = this.retrying.stop()
    if (this.far.drain) await within(this.o.clock, DRAIN_MS, this.far.drain())
    this.far.close()
    this.over()
    for (const w of this.readyWaiters.splice(0)) w()
    await stopping
    this.forgetEarly()
  }
}
