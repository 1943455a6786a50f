import type { Lane } from '~/contract/destination'
import type { Terms } from '~/contract/destinations/terms'
import type { Condition } from '~/contract/live'
import { kindOf } from '~/core/address/kinds'
import type { StoreTrouble } from '~/core/delivery/delivery-store'
import type { Envelope } from '~/core/delivery/envelope'
import type { PeerTime } from '~/core/proof/peer-time'
import { Retrying } from '../clock/retrying'
import { failureOf } from '../failure'
import type { DropReason, OutboxLimits } from '../outbox/options'
import { Outbox } from '../outbox/outbox'
import { TopicIndex } from '../witness/topics'
import type { Witness } from '../witness/witness'
import { ConnectPace } from './connect-pace'
import type { DestinationTarget, Remembered } from './driver'
import { noteSent } from './flow'
import type { DestinationContext, LaneParts } from './lane'
import { LaneCondition } from './lane-condition'
import { Listening } from './listening'
import { Sending } from './sending'
import type { NodeSession } from './session'
import { Suspicion } from './suspicion'

/** How long sending waits for the witness to listen, so that it sees the first messages, ms. */
const WITNESS_HEAD_START_MS = 5000
/** How long what is under way is waited for at the end, ms. */
const LAST_MS = 2000

const HOUR_MS = 3_600_000
const limitsOf = ({ outboxMb, outboxHours, journalMb, journalHours }: Terms): OutboxLimits => ({
  bytes: outboxMb * 1_000_000,
  ageMs: outboxHours > 0 ? outboxHours * HOUR_MS : Number.POSITIVE_INFINITY,
  journal: { bytes: journalMb * 1_000_000, ageMs: journalHours * HOUR_MS },
})

/** Keeps one destination connected and its outbox flowing, with a witness at its far end. */
export class DestinationSupervisor implements LaneParts {
  readonly outbox: Outbox
  readonly topics = new TopicIndex()
  readonly condition: LaneCondition
  readonly suspicion: Suspicion
  readonly remembered: Remembered = new Map()
  readonly anew = { sender: false, witness: false }
  stopped = false
  /** The version of its settings that is taken up, or about to be. */
  wantedVersion: number
  private readonly sending: Sending
  private readonly listening: Listening
  private readonly loading: Retrying
  private loaded = false
  private readonly pace = new ConnectPace()

  constructor(
    public destination: Lane,
    readonly ctx: DestinationContext,
  ) {
    const { clock, store, packing } = ctx
    this.wantedVersion = destination.version
    this.condition = new LaneCondition(ctx, () => this.destination)
    this.suspicion = new Suspicion((e) => ctx.driver.manner(e))
    this.loading = new Retrying(clock, { firstMs: 500, mostMs: 5000 })
    this.outbox = new Outbox({
      store,
      clock,
      packing,
      destinationId: destination.id,
      limits: limitsOf(destination.settings),
      troubleOf: ctx.troubleOf,
      hooks: this.outboxHooks(),
    })
    this.listening = new Listening(this)
    // The destination is there: the witness can be too, and should be before the first message.
    this.sending = new Sending(this, () =>
      this.listening.ready(WITNESS_HEAD_START_MS, () =>
        this.condition.set(
          'trouble',
          'waits until the database keeps where its witness begins to read',
          'Bring the database back; what comes meanwhile waits',
        ),
      ),
    )
    this.rules()
  }

  get witness(): Witness | null {
    return this.listening.witness
  }

  private outboxHooks() {
    const { ledger, clock } = this.ctx
    return {
      stored: (e: Envelope) => {
        ledger.account(e.delivery).stored(e.seq, e.producedAt, e.turn)
        ledger.producedRate.add(1, clock.mono())
        this.ctx.step('stored', e.delivery, e.seq, clock.wall())
      },
      dropped: (e: Envelope, acknowledged: boolean, why: DropReason) => {
        const account = ledger.account(e.delivery)
        if (acknowledged) account.forgotten(e.seq)
        else {
          account.dropped(e.seq, e.producedAt, e.turn)
          this.condition.drops(why)
        }
      },
      lost: (run: { delivery: number; first: number; last: number; producedAt: number; turn: number }) => {
        const account = ledger.account(run.delivery)
        for (let seq = run.first; seq <= run.last; seq++) account.dropped(seq, run.producedAt, run.turn)
      },
      gone: (delivery: number, first: number, last: number, why: string) => {
        const n = ledger.account(delivery).lostPlace(first, last)
        if (n === 0) return
        this.condition.event(
          'trouble',
          'outbox.damaged',
          `${n} stored messages can't be read back: ${why}`,
          'Their fate is unknown now; look at the disk',
        )
      },
      trouble: (t: { kind: StoreTrouble; words: string; lost: number } | null) => this.ctx.storeTrouble(this.destination.id, t),
      journalGaveWay: (messages: number) =>
        this.condition.event(
          'warning',
          'journal.full-disk',
          `${messages} messages left the journal before their time: the disk of the database is full`,
          'They have their fate and count as before, but can be opened no more; make room',
        ),
      fenced: () => this.ctx.fenced(),
    }
  }

  /** By which rules its messages are judged. */
  private rules(): void {
    const { witness, lateS } = this.destination.settings
    const byId = this.ctx.driver.carriesId(this.destination.settings)
    const keepsOnce = this.ctx.driver.keepsOnce ?? false
    for (const d of this.ctx.deliveriesOf(this.destination.id))
      this.ctx.ledger.watch(d, { destinationId: this.destination.id, witnessed: witness, lateMs: lateS * 1000, byId, keepsOnce })
  }

  /** Begins, as soon as what an earlier run left can be read; what is offered meanwhile waits. */
  start(filters: readonly string[]): void {
    this.listening.expect(filters)
    this.ctx.ledger.attach(this.outbox, null)
    this.loading.start(
      async () => {
        await this.load()
        this.ctx.storeTrouble(`${this.destination.id} load`, null)
        this.loaded = true
        await this.begin()
        void this.loading.stop()
        return 'wait'
      },
      (e) => {
        const kind = this.ctx.troubleOf(e)
        const f = failureOf(e, 'destination')
        // What is wrong with this outbox alone is no trouble of the database.
        if (kind !== 'failed') this.ctx.storeTrouble(`${this.destination.id} load`, { kind, words: f.message, lost: 0 })
        else if (this.loading.failures === 0) this.condition.event('trouble', f.code, `its outbox cannot be read: ${f.message}`, f.hint)
        this.condition.set('trouble', `its outbox cannot be read: ${f.message}`, 'Embrik tries again; what comes waits in memory')
      },
    )
  }

  /** Takes over what an earlier run left. */
  private async load(): Promise<void> {
    const { ledger, clock } = this.ctx
    const there = await this.outbox.load((item, uncounted, acknowledged) => {
      const e = item.envelope
      const account = ledger.account(e.delivery)
      account.fromBefore(e.seq)
      // What comes back of it has an owner, before it is sent again.
      this.topics.add(e.topic, account)
      const { answered } = account.standing
      const done = acknowledged || answered.has(e.seq)
      if (uncounted) account.stored(e.seq, e.producedAt, e.turn)
      // Whether that run sent it again is written only with its next flush, and it may not have come to that.
      if (!done && this.outbox.inDoubt(item.segment.ordinal + item.index)) account.twice(e.seq)
      // What went out before another that was answered has been on the wire too.
      if (done || e.seq < (answered.max ?? 0)) noteSent(this, item, true)
      if (done) account.acknowledged(e.seq, clock.mono())
      return done
    })
    const deliveries = this.ctx.deliveriesOf(this.destination.id)
    const gone = ledger.resolveGone(deliveries, there)
    const lost = ledger.memoryLost(deliveries)
    // The far end knows more of us than we do: what it remembers fits nothing here.
    this.anew.sender = this.anew.witness = ledger.older
    if (lost > 0)
      this.condition.event('warning', 'outbox.older', `${lost} messages were sent or given numbers since the copy of the database: unknown`)
    const words = `${gone} messages without a verdict are not in the outbox any more: unknown`
    if (gone > 0) this.condition.event('warning', 'outbox.gone', words, 'Was the database restored?')
  }

  private async begin(): Promise<void> {
    if (this.stopped) return
    // Filters of an earlier run stay as long as what that run stored may come under them.
    this.listening.mark()
    await this.listening.begin()
    this.sending.start()
  }

  /** The far end has forgotten what it knew of the one; when of both, all is told of what the database has forgotten. */
  begunAnew(of: 'sender' | 'witness'): void {
    if (!this.anew[of]) return
    this.anew[of] = false
    if (!this.anew.sender && !this.anew.witness) this.ctx.ledger.begunAnew(this.ctx.deliveriesOf(this.destination.id))
  }

  connectWait(): number {
    const { connectsPerMin = 0 }: Terms = this.destination.settings
    return this.pace.wait(this.ctx.clock.mono(), connectsPerMin)
  }

  witnessLostSince(mono: number): boolean {
    return this.witness?.lostSince(mono) ?? false
  }

  /** Whether the other side says that it has a message. */
  get acknowledges(): boolean {
    return kindOf(this.destination).lastWord === 'acknowledged'
  }

  /** Whether it is connected by just what this target has. */
  isConnectedBy(target: DestinationTarget): boolean {
    return this.sending.isConnectedBy(target)
  }

  present(): Condition {
    return this.condition.present()
  }

  /** Whether a connection stands. */
  get connected(): boolean {
    return this.sending.connected
  }

  /** What the other side told last of its own time; null: nothing, undefined: its kind tells none. */
  peerTime(): PeerTime | null | undefined {
    return this.sending.peerTime()
  }

  /** How long the oldest message has been without an answer, ms; null: none is under way. */
  get unansweredMs(): number | null {
    return this.sending.unansweredMs
  }

  /** Takes up other settings: what need not be made anew stays, what must be is finished first. */
  async change(to: Lane): Promise<void> {
    const from = this.destination
    this.destination = to
    this.outbox.setLimits(limitsOf(to.settings))
    this.sending.setPace(to.settings.retryMs)
    this.rules()
    if (!this.loaded || this.stopped) return
    const target = await this.ctx.target(to).catch(() => null)
    await this.connectBy(from, target)
  }

  /** Goes on by what its credentials hold now, where that is something else. */
  async takeUp(target: DestinationTarget): Promise<void> {
    if (this.loaded && !this.stopped) await this.connectBy(this.destination, target)
  }

  /** Connects anew where it must; null: what it connects by cannot be opened, which the next try tells. */
  private async connectBy(from: Lane, target: DestinationTarget | null): Promise<void> {
    const to = this.destination
    const sendingStays = this.sending.suits(from, to, target)
    const listeningStays = this.listening.suits(from, to, target)
    const go = sendingStays ? null : await this.sending.pause()
    // The witness first, so that it sees what is sent then.
    if (!listeningStays) await this.listening.renew()
    if (!go) return
    go()
    this.sending.start()
  }

  /** Connects anew by what it has, as where another way leads there now; what is under way is finished first. */
  async reconnect(): Promise<void> {
    if (!this.loaded || this.stopped) return
    const go = await this.sending.pause()
    await this.listening.renew()
    go()
    this.sending.start()
  }

  /**
   * Lets the witness listen to other filters. Sending pauses for it, with nothing on the wire: a message in the moment
   * between the old and the new filter would pass unseen, and nobody could say whether it arrived.
   */
  async watch(filters: readonly string[]): Promise<void> {
    this.rules()
    await this.listening.watch(filters, (listen) => this.sending.pausedFor(listen))
  }

  /** Whom the connection speaks for. */
  speakFor(session: NodeSession | null): Promise<void> {
    return this.sending.speakFor(session)
  }

  /** Stops sending and reading; the outbox stores what is still in memory. */
  async stop(): Promise<void> {
    await this.sending.stop(this.loaded ? LAST_MS : 0, () => {
      this.stopped = true
      return Promise.all([this.loading.stop(), this.listening.stop()])
    })
    await this.listening.end()
    await this.outbox.close()
    // Nobody waits any more for what it could not store.
    for (const who of [this.destination.id, `${this.destination.id} load`]) this.ctx.storeTrouble(who, null)
    await this.ctx.ledger.flush()
    await this.ctx.ledger.flush()
    this.ctx.ledger.detach(this.destination.id)
  }
}
