import { FailureError } from '~/contract/failure'
import type { WitnessView } from '~/core/delivery/account'
import { digest } from '~/core/delivery/digest'
import { reasonOf } from '~/core/mqtt/reasons'
import type { Published } from '~/core/mqtt/wire'
import { withoutSeq } from '~/core/shape/sparkplug-birth'
import { NAMESPACE } from '~/core/shape/sparkplug-metric'
import type { Clock } from '../../clock/clock'
import type { MqttAccess } from '../../net/mqtt-access'
import { mqttFailure } from '../../net/mqtt-failure'
import { MqttLink } from '../../net/mqtt-link'
import type { Dial } from '../../net/wire'
import type { FarEnd, FarSink, Position } from '../far-end'
import { CountedDeliveries, type Delivered } from './counted'
import { Coverage } from './coverage'
import { withoutMark } from './history'
import type { Hosts } from './hosts'
import { Renumbering } from './renumbering'
import { StallWatch } from './stall-watch'

const NUMBERED = `${NAMESPACE}/`
/** How long the broker is to remember the witness, s. */
const EXPIRY_S = 7 * 86_400
const RECEIVE_MAXIMUM = 20_000
/** So long after the backlog was through the broker repeats nothing of earlier connections any more, ms. */
const REPEATS_MS = 60_000
/** So long after the backlog was through, a broker that was not shut down well hands out again what it had handed out, ms. */
const OLD_SESSION_MS = 5000
/** A probe may stay without answer so long while nothing at all is heard, before the link counts as dead, ms. */
const DEAD_MS = 15_000
/** The same, whatever is heard, ms. */
const GIVE_UP_MS = 300_000

/** Reads an MQTT broker, with a session that outlives its connections (MQTT 5 4.1), at QoS 1. */
export class MqttFarEnd implements FarEnd {
  private readonly coverage = new Coverage()
  private readonly counted_ = new CountedDeliveries()
  private readonly stall = new StallWatch()
  private link: MqttLink | null = null
  /** Counts connections up from 1. */
  private connection = 0
  private tidied = 0
  private connectedAt: number | null = null
  private heardAt = 0
  private lostAt: number | null = null
  /** Since when what the broker held when this connection began has come; null: not yet. */
  private throughAt: number | null = null
  private clearAt = Number.NEGATIVE_INFINITY
  private seenAt = Number.NEGATIVE_INFINITY
  private seenAnyAt = Number.NEGATIVE_INFINITY
  private sessionPresent = false
  /** Deliveries of earlier connections that the broker may not know to be acknowledged, by message. */
  private unconfirmed = new Map<string, Delivered>()
  private renumbering = new Renumbering()
  /** Copies of which only the end of the repetitions tells whether they are new. */
  private suspects: { packet: Published; delivered: Delivered; id: number }[] = []
  /** Deliveries of this connection that the broker has no acknowledgement of. */
  private outstanding = 0
  private pings: { number: number; at: number; clear: boolean }[] = []
  private acked: [number, Delivered][] = []
  private ackPing: { number: number; acked: [number, Delivered][] } | null = null
  private changed = false
  /** A connection is being made: the session at the broker may be another one by now. */
  private connecting = false
  private clean = false
  /** The host whose session is remembered here. */
  private readAt = ''
  /** The first part of the position, as long as it holds. */
  private head: Buffer | null = null
  private asking: Promise<void> = Promise.resolve()
  private refused = new Map<string, string>()

  private readonly sink: FarSink
  private readonly clock: Clock
  /** How the connection of this moment is made, or the last one was. */
  private access: MqttAccess
  private unfollow: () => void = () => undefined

  constructor(private readonly o: FarEndOptions) {
    this.sink = o.sink
    this.clock = o.clock
    this.access = { ...o.access, ...o.hosts.current }
  }

  restore(position: Position): void {
    this.clean = position === 'forget'
    if (position === 'forget') return
    if (!position || position.length < 4) return
    const bytes = Buffer.from(position)
    const length = bytes.readUInt32LE(0)
    const { filters, renumbers, connecting, host = '' } = JSON.parse(bytes.subarray(4, 4 + length).toString('utf8')) as Head
    this.renumbering = new Renumbering(renumbers === true)
    this.readAt = host
    // Died while it connected: whether the broker still had the session, and what was granted in it, nobody knows.
    if (!connecting) this.coverage.restore(filters, this.clock.mono() - this.clock.wall())
    this.counted_.restore(bytes.subarray(4 + length))
  }

  position(): Uint8Array | null {
    const now = this.clock.mono()
    if (this.throughAt !== null && now - this.throughAt > REPEATS_MS && this.tidied !== this.connection) {
      this.tidied = this.connection
      this.counted_.forgetBefore(this.connection)
    }
    const counted = this.counted_.take()
    if (!counted && !this.changed) return null
    const headChanged = this.changed
    this.changed = false
    if (!this.head || headChanged) this.head = this.encodeHead()
    return Buffer.concat([this.head, counted ?? this.counted_.encode()])
  }

  private encodeHead(): Buffer {
    const filters = this.coverage.written(this.clock.mono() - this.clock.wall())
    const head = Buffer.from(
      JSON.stringify({ filters, renumbers: this.renumbering.believed, connecting: this.connecting, host: this.readAt } satisfies Head),
    )
    const length = Buffer.alloc(4)
    length.writeUInt32LE(head.length)
    return Buffer.concat([length, head])
  }

  view(): WitnessView | null {
    if (this.connectedAt === null) return null
    const { connectedAt, clearAt, seenAt, seenAnyAt } = this
    return { connectedAt, clearAt, seenAt, seenAnyAt, coveredSince: (topic) => this.coverage.coveredSince(topic) }
  }

  prepare(): void {
    this.connecting = this.changed = true
  }

  async connect(): Promise<void> {
    const { clock } = this
    this.connection++
    this.outstanding = 0
    this.throughAt = null
    this.pings = []
    this.suspects = []
    this.renumbering.begin()
    this.unconfirmed = this.counted_.before(this.connection)
    this.acked = []
    this.ackPing = null
    this.clearAt = this.seenAt = this.seenAnyAt = Number.NEGATIVE_INFINITY
    this.stall.begin()
    const mine = this.connection
    const { o } = this
    this.access = { ...o.access, ...o.hosts.current }
    const host = `${this.access.host}:${this.access.port}`
    try {
      this.link = await MqttLink.connect(
        o.dial,
        clock,
        { access: this.access, clean: this.clean, expiryS: EXPIRY_S, receiveMaximum: RECEIVE_MAXIMUM, packetMax: o.packetMax },
        {
          greeted: (link, connack) => {
            this.link = link
            this.sessionPresent = connack.sessionPresent
            this.connecting = false
            this.clean = false
            this.changed = true
            const elsewhere = this.readAt !== '' && this.readAt !== host
            this.readAt = host
            if (!connack.sessionPresent || elsewhere) {
              this.counted_.clear()
              this.coverage.clear()
            } else if (this.lostAt !== null) this.coverage.doubtYoung(this.lostAt)
          },
          message: (packet) => {
            this.message(packet)
            // Where all that comes is judged at once nobody else asks whether the link holds.
            if (this.dead()) this.giveUp()
          },
          pong: (number) => this.pong(number),
          closed: (why) => {
            if (mine === this.connection) this.lost(why)
          },
        },
      )
    } catch (e) {
      throw new FailureError(mqttFailure(e, this.access, 'witness'), 502)
    }
    // Older subscriptions are said again too: a broker that came back with an older state has forgotten the newest.
    await this.say([...this.coverage.filters])
    await this.asking
    if (this.link === null || this.link.lostOrClosed || mine !== this.connection)
      throw new FailureError(mqttFailure(Object.assign(new Error('closed'), { code: 'ECONNRESET' }), this.access, 'witness'), 502)
    this.connectedAt = clock.mono()
    // What the sender says may go to another host from some moment on.
    this.unfollow = o.hosts.follow((to) => {
      if (to.host !== this.access.host || to.port !== this.access.port) this.link?.abandon(moved)
    })
    this.probe()
  }

  private lost(why: unknown): void {
    this.drop()
    this.sink.lost(mqttFailure(why, this.access, 'witness'))
  }

  private drop(): void {
    this.unfollow()
    this.lostAt = this.clock.mono()
    this.connectedAt = null
    this.link = null
  }

  async watch(filters: readonly string[]): Promise<void> {
    this.coverage.want(filters)
    // While it connects too: what is being said then was wanted before.
    if (this.link) await this.say([])
  }

  release(needed: readonly string[]): void {
    if (this.coverage.release(needed) && this.link && this.connectedAt !== null) void this.say([])
  }

  /** Tells the broker what is wanted; one at a time. */
  private say(ask: readonly string[]): Promise<void> {
    this.asking = this.asking.then(() => this.sayNow(ask)).catch(() => undefined)
    return this.asking
  }

  private async sayNow(ask: readonly string[]): Promise<void> {
    const { link } = this
    if (!link || link.lostOrClosed) return
    // Old ones go first: where an old and a new filter overlap, both at once would deliver twice.
    const { stale } = this.coverage.due()
    await link.unsubscribe(stale)
    for (const f of stale) this.coverage.removed(f)
    const filters = [...new Set([...ask, ...this.coverage.due().fresh])]
    const before = [...this.refused.keys()].join()
    for (const f of [...this.refused.keys()]) if (!this.coverage.filters.includes(f)) this.refused.delete(f)
    if (filters.length > 0) {
      const reasons = await link.subscribe(filters)
      const now = this.clock.mono()
      filters.forEach((f, i) => {
        const reason = reasons[i] ?? 0x80
        if (reason >= 0x80) {
          this.coverage.removed(f)
          this.refused.set(f, reasonOf(reason).words)
        } else {
          this.coverage.granted(f, now)
          this.refused.delete(f)
        }
      })
    }
    this.changed = true
    if ([...this.refused.keys()].join() !== before || this.refused.size > 0) this.sink.refused(this.refused)
  }

  private message(packet: Published): void {
    const mono = this.clock.mono()
    this.heardAt = mono
    const id = packet.qos > 0 ? packet.packetId : null
    if (packet.retain && this.access.protocol !== '5') {
      // What was retained before we came (3.1.1 has no way to say that we do not want it).
      if (id !== null) this.link?.acknowledge(id)
      return
    }
    // What is numbered or marked on the wire was produced without the number and the mark.
    const sum = digest(packet.topic.startsWith(NUMBERED) ? withoutMark(withoutSeq(packet.payload)) : packet.payload)
    if (id !== null) {
      this.outstanding++
      for (const p of this.pings) p.clear = false
      if (this.stall.came(this.outstanding)) this.sink.hurry()
    }
    if (id !== null && packet.dup) {
      const before = this.counted_.get(id)
      if (before && before.digest === sum) {
        if (before.connection < this.connection) this.learnt(() => this.renumbering.keptItsIdentifier())
        before.connection = this.connection
        if (before.state === 'written') this.acknowledge(id, before)
        return
      }
    }
    const delivered: Delivered = { delivery: 0, seq: 0, digest: sum, state: 'seen', connection: this.connection }
    if (id !== null && packet.id !== null) {
      const how = this.handedOutBefore(packet)
      if (how === 'repetition') return this.repetition(id, delivered)
      if (how === 'perhaps') {
        this.suspects.push({ packet: { ...packet, payload: new Uint8Array() }, delivered, id })
        return
      }
    }
    if (id !== null) this.counted_.set(id, delivered)
    this.tell(packet, delivered, sum, id, mono)
  }

  private tell(packet: Published, delivered: Delivered, sum: number, id: number | null, mono: number): void {
    this.sink.sighting({
      id: packet.id,
      topic: packet.topic,
      digest: sum,
      at: this.clock.wall(),
      mono,
      // Without an id of the message, only the packet identifier could tell a repetition from a copy: and it is another one.
      repeated: packet.id === null && packet.dup,
      held: packet.id === null && this.inOldSession(),
      comesAgain: id !== null,
      token: { id, delivered } satisfies Token,
    })
  }

  /**
   * Whether the broker hands out again what it had handed out before, under another packet identifier: some repeat that way
   * (against MQTT 5 4.4), some come back with an older session after they were killed. Our ids tell: of a message that went
   * out once there is no second copy of our making. One that went out twice may have two: then it depends on whether this
   * broker is of those that repeat so.
   */
  private handedOutBefore(packet: Published): 'new' | 'repetition' | 'perhaps' {
    if (!packet.dup && !this.inOldSession()) return 'new'
    const known = this.sink.acquaintance(packet.id!)
    if (!known?.arrived) return 'new'
    const [, delivery, seq] = packet.id!.split('.')
    const original = this.unconfirmed.get(`${delivery}.${seq}`)
    const unseen = original !== undefined && original.connection < this.connection
    if (known.once) {
      if (packet.dup && unseen) this.learnt(() => this.renumbering.gotAnother())
      return 'repetition'
    }
    return packet.dup && unseen ? 'perhaps' : 'new'
  }

  private inOldSession(): boolean {
    return this.sessionPresent && (this.throughAt === null || this.clock.mono() - this.throughAt < OLD_SESSION_MS)
  }

  private learnt(tell: () => void): void {
    const { believed } = this.renumbering
    tell()
    if (this.renumbering.believed !== believed) this.changed = true
  }

  /** The broker is through with what it had to repeat. */
  private judgeSuspects(): void {
    for (const s of this.suspects.splice(0)) {
      if (this.renumbering.believed) this.repetition(s.id, s.delivered)
      else {
        this.counted_.set(s.id, s.delivered)
        this.tell(s.packet, s.delivered, s.delivered.digest, s.id, this.clock.mono())
      }
    }
  }

  /** Nothing is counted; the broker may let go of it. */
  private repetition(id: number, delivered: Delivered): void {
    delivered.state = 'written'
    this.counted_.set(id, delivered)
    this.acknowledge(id, delivered)
  }

  counted(token: unknown, delivery: number, seq: number, sentMono: number | null): void {
    const { id, delivered } = token as Token
    if (sentMono !== null) this.sawSentAt(sentMono, id === null)
    delivered.delivery = delivery
    delivered.seq = seq
    if (id !== null) this.counted_.counted(delivered)
  }

  safe(token: unknown): void {
    const { id, delivered } = token as Token
    if (id === null) return
    delivered.state = 'written'
    // From an earlier connection: it comes again on this one, and is acknowledged then.
    if (this.counted_.get(id) === delivered && delivered.connection === this.connection) this.acknowledge(id, delivered)
  }

  private acknowledge(id: number, delivered: Delivered): void {
    if (!this.link) return
    this.stall.acknowledged(this.outstanding)
    this.outstanding--
    this.link.acknowledge(id)
    if (this.acked.push([id, delivered]) === 1) this.clock.soon(() => this.askForAcks())
  }

  /** Asks whether the broker has the acknowledgements; one question at a time. */
  private askForAcks(): void {
    if (this.ackPing || this.acked.length === 0 || !this.link) return
    this.ackPing = { number: this.ping(), acked: this.acked }
    this.acked = []
  }

  private ping(): number {
    const number = this.link!.ping()
    // With every delivery acknowledged before it, and none coming before its answer, the broker holds nothing back. (With one
    // coming it may: it hands out no more at once than it likes.)
    this.pings.push({ number, at: this.clock.mono(), clear: this.outstanding === 0 && this.suspects.length === 0 })
    return number
  }

  private pong(number: number): void {
    const now = this.clock.mono()
    this.heardAt = now
    while (this.pings[0] && this.pings[0].number <= number) {
      const p = this.pings.shift()!
      if (p.clear) this.nothingHeldAt(p.at, now)
      this.judgeSuspects()
    }
    if (!this.ackPing || number < this.ackPing.number) return
    for (const [id, delivered] of this.ackPing.acked) this.counted_.forget(id, delivered)
    this.ackPing = null
    this.askForAcks()
  }

  private nothingHeldAt(at: number, now: number): void {
    this.clearAt = Math.max(this.clearAt, at)
    this.throughAt ??= now
  }

  /** A message that went out at `sentMono` was seen: the broker is through with what was sent before. */
  private sawSentAt(sentMono: number, qos0: boolean): void {
    this.seenAnyAt = Math.max(this.seenAnyAt, sentMono)
    if (!qos0) this.seenAt = Math.max(this.seenAt, sentMono)
    if (this.connectedAt !== null && sentMono > this.connectedAt) this.throughAt ??= this.clock.mono()
  }

  probe(): void {
    if (!this.link) return
    if (this.dead()) return this.giveUp()
    if (this.pings.length < 3) this.ping()
  }

  /**
   * Whether the link is gone, in one direction at least: nothing comes any more; or messages do, that went out long after a question
   * which has no answer: that never arrived. A slow link may have much to bring before the answer, but not for ever.
   */
  private dead(): boolean {
    const silent = this.silentMs()
    const [asked] = this.pings
    if (!asked || silent <= DEAD_MS) return false
    return this.clock.mono() - this.heardAt > DEAD_MS || this.seenAnyAt - asked.at > DEAD_MS || silent > GIVE_UP_MS
  }

  private giveUp(): void {
    this.link?.abandon(Object.assign(new Error('silent'), { code: 'ESILENT' }))
  }

  silentMs(): number {
    return this.pings[0] ? this.clock.mono() - this.pings[0].at : 0
  }

  close(): void {
    this.link?.close()
    this.drop()
  }
}

export interface FarEndOptions {
  dial: Dial<MqttAccess>
  access: MqttAccess
  /** Octets of a packet that is taken. */
  packetMax: number
  hosts: Hosts
  sink: FarSink
  clock: Clock
}

/** Not a fault: the sender is at another host. */
const moved = new FailureError({
  code: 'mqtt.moved',
  message: 'The sender is at another host',
  hint: 'The witness follows it',
  where: 'witness',
})

/** What is written before the deliveries. */
interface Head {
  filters: [string, number][]
  renumbers?: boolean
  connecting?: boolean
  /** Where that was read: what is known of one host means nothing at another. Empty: it was not written yet. */
  host?: string
}

interface Token {
  id: number | null
  delivered: Delivered
}
