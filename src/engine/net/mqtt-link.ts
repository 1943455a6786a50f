import { type Failure, FailureError } from '~/contract/failure'
import { ID_PROPERTY } from '~/core/delivery/envelope'
import {
  connectPacket,
  disconnectPacket,
  pingPacket,
  pubackPackets,
  pubrelPacket,
  subscribePacket,
  unsubscribePacket,
  type Will,
} from '~/core/mqtt/packets'
import { Framer, type Publishing } from '~/core/mqtt/publish'
import { reasonOf } from '~/core/mqtt/reasons'
import { type Connack, type Incoming, PACKET_MAX, type Published, type Version, WireReader } from '~/core/mqtt/wire'
import type { Cancel, Clock } from '../clock/clock'
import type { MqttAccess } from './mqtt-access'
import type { Dial, Wire } from './wire'

export interface LinkHooks {
  /** A message came; one of QoS 1 is to be acknowledged, whenever the caller is ready. */
  message?(packet: Published): void
  /** The broker answered to a message of ours. */
  answered?(step: 'puback' | 'pubrec' | 'pubcomp', packetId: number, reason: number, reasonString: string): void
  /** The broker took us in; comes before anything else. */
  greeted?(link: MqttLink, connack: Connack): void
  /** The broker answered the ping of this number: it has all that was written before it. */
  pong?(number: number): void
  /** The wire takes more again. */
  drained?(): void
  /** Called once when the link is lost, not when it is closed by us. */
  closed(why: unknown): void
}

export interface LinkOptions {
  access: MqttAccess
  /** Begin without what the broker remembers of us. */
  clean: boolean
  /** How long the broker is to remember us, s. */
  expiryS: number
  receiveMaximum: number
  /** Octets of a packet that is taken from the broker; unless given, as many as are read at all. */
  packetMax?: number
  /** Topics that may go by number, as far as the broker takes them. */
  aliases?: number
  will?: Will
}

/** How long the broker may take to greet us, and to answer a request, ms. */
const GREETING_MS = 10_000
const REQUEST_MS = 30_000

/**
 * One connection to a broker, MQTT 5 or 3.1.1: sends, listens, asks and is told, all in the order of the wire. It never
 * retries, sends nothing again, and knows nothing of who uses it.
 */
export class MqttLink {
  private nextId = 1
  private readonly waiting = new Map<number, { done: (reasons: number[]) => void; failed: (e: unknown) => void; cancel: Cancel }>()
  private stopPing: Cancel = () => undefined
  private heard: number
  private over = false
  private pings = 0
  private pongs = 0
  private acks: number[] = []
  private flushing = false
  private wire!: Wire
  connack!: Connack
  private readonly framer: Framer
  readonly version: Version

  private constructor(
    private readonly clock: Clock,
    private readonly o: LinkOptions,
    private readonly hooks: LinkHooks,
  ) {
    this.heard = clock.mono()
    this.version = o.access.protocol === '5' ? 5 : 4
    this.framer = new Framer(this.version, ID_PROPERTY)
  }

  /** Connects; rejects with what went wrong, in the broker's words when it says no. */
  static async connect(dial: Dial<MqttAccess>, clock: Clock, o: LinkOptions, hooks: LinkHooks): Promise<MqttLink> {
    const link = new MqttLink(clock, o, hooks)
    let greet: (c: Connack) => void = () => undefined
    let fail: (e: unknown) => void = () => undefined
    const greeting = new Promise<Connack>((done, failed) => {
      greet = done
      fail = failed
    })
    // Whoever waits hears of it below; before that nobody does.
    greeting.catch(() => undefined)
    let greeted = false
    let spoke = false
    const reader = new WireReader(link.version, ID_PROPERTY, (p) => {
      if (greeted) return link.handle(p)
      if (p.kind !== 'connack') throw Object.assign(new Error(`it answered with ${p.kind} instead of a greeting`), { code: 'EPROTOCOL' })
      greeted = true
      link.connack = p
      if (p.reason === 0) hooks.greeted?.(link, p)
      greet(p)
    })
    link.wire = await dial(o.access, {
      data: (chunk) => {
        link.heard = clock.mono()
        spoke = true
        if (link.over) return
        try {
          reader.push(chunk)
        } catch (e) {
          const why = greeted ? e : Object.assign(new Error('what answers there is no MQTT broker'), { code: 'EPROTOCOL' })
          fail(why)
          link.wire.destroy(why)
        }
      },
      drained: () => hooks.drained?.(),
      closed: (why) => {
        // It said something, and it was no greeting.
        fail(spoke && !greeted ? Object.assign(new Error('what answers there is no MQTT broker'), { code: 'EPROTOCOL' }) : why)
        link.lost(why)
      },
    })
    const cancel = clock.after(GREETING_MS, () => fail(Object.assign(new Error('no greeting'), { code: 'ENOGREETING' })))
    const { clientId, keepAliveS, user, password } = o.access
    const { clean, expiryS, receiveMaximum, will, packetMax = PACKET_MAX } = o
    const said = { clientId, clean, keepAliveS, user, password, expiryS, receiveMaximum, packetMax }
    link.wire.write(connectPacket(link.version, { ...said, ...(will && { will }) }))
    try {
      const connack = await greeting
      if (connack.reason !== 0) throw refusedConnection(connack)
    } catch (e) {
      link.over = true
      link.wire.destroy()
      throw e
    } finally {
      cancel()
    }
    link.framer.allowAliases(Math.min(o.aliases ?? 0, link.connack.topicAliasMaximum))
    link.keepAlive(link.connack.serverKeepAlive ?? keepAliveS)
    return link
  }

  private keepAlive(seconds: number): void {
    if (seconds === 0) return
    this.stopPing = this.clock.every(Math.min(seconds * 500, 10_000), () => {
      if (this.clock.mono() - this.heard > seconds * 1500) this.wire.destroy(Object.assign(new Error('silent'), { code: 'ESILENT' }))
      else this.ping()
    })
  }

  get lostOrClosed(): boolean {
    return this.over
  }

  /** Octets written that the network has not taken yet. */
  get pending(): number {
    return this.wire.pending + this.framer.length
  }

  private write(packets: Uint8Array): void {
    if (this.over) return
    this.framer.append(packets)
    this.flushSoon()
  }

  /** All of one turn goes out in one piece. */
  private flushSoon(): void {
    if (this.flushing) return
    this.flushing = true
    queueMicrotask(() => {
      this.flushing = false
      this.flush()
    })
  }

  private flush(): void {
    if (this.acks.length > 0) {
      this.framer.append(pubackPackets(this.acks))
      this.acks = []
    }
    if (this.framer.length > 0 && !this.over) this.wire.write(this.framer.take())
  }

  /** Octets that a message would have on the wire, at most. */
  sizeOf(p: Publishing): number {
    return this.framer.sizeOf(p)
  }

  publish(p: Publishing): void {
    if (this.over) return
    this.framer.publish(p)
    this.flushSoon()
  }

  /** Lets go of a message of QoS 2 (PUBREL). */
  release(packetId: number): void {
    this.write(pubrelPacket(packetId))
  }

  /** Asks for an answer and returns the number under which `pong` will hear of it (packets are answered in order). */
  ping(): number {
    this.write(pingPacket)
    return ++this.pings
  }

  /** Acknowledges a message; all of one turn go out together. */
  acknowledge(packetId: number): void {
    this.acks.push(packetId)
    this.flushSoon()
  }

  private handle(p: Incoming): void {
    switch (p.kind) {
      case 'publish':
        return this.hooks.message?.(p)
      case 'puback':
      case 'pubrec':
      case 'pubcomp':
        return this.hooks.answered?.(p.kind, p.packetId, p.reason, p.reasonString)
      case 'pingresp':
        return this.hooks.pong?.(++this.pongs)
      case 'suback':
      case 'unsuback': {
        const asked = this.waiting.get(p.packetId)
        this.waiting.delete(p.packetId)
        asked?.cancel()
        return asked?.done(p.reasons)
      }
      case 'disconnect':
        return this.wire.destroy(disconnected(p, this.o.access.clientId))
      default:
    }
  }

  private request(make: (packetId: number) => Uint8Array): Promise<number[]> {
    const id = this.nextId
    this.nextId = (this.nextId % 65_535) + 1
    return new Promise((done, failed) => {
      if (this.over) return failed(Object.assign(new Error('connection closed'), { code: 'ECONNRESET' }))
      const cancel = this.clock.after(REQUEST_MS, () => {
        this.waiting.delete(id)
        failed(Object.assign(new Error('no answer to a subscription'), { code: 'ENOSUBACK' }))
      })
      this.waiting.set(id, { done, failed, cancel })
      this.write(make(id))
    })
  }

  /** Subscribes at QoS 1 and gives the reason code of each filter; in 3.1.1 what is retained comes all the same, marked. */
  async subscribe(filters: readonly string[], retained = false): Promise<number[]> {
    return filters.length === 0 ? [] : this.request((id) => subscribePacket(this.version, id, filters, retained))
  }

  async unsubscribe(filters: readonly string[]): Promise<void> {
    if (filters.length > 0) await this.request((id) => unsubscribePacket(this.version, id, filters))
  }

  private stop(why: unknown): void {
    this.stopPing()
    for (const w of this.waiting.values()) {
      w.cancel()
      w.failed(why)
    }
    this.waiting.clear()
  }

  private lost(why: unknown): void {
    this.stop(why)
    if (this.over) return
    this.over = true
    this.hooks.closed(why)
  }

  /** Gives the link up as lost, for a reason. */
  abandon(why: unknown): void {
    this.wire.destroy(why)
  }

  close(): void {
    if (this.over) return
    this.write(disconnectPacket)
    this.flush()
    this.over = true
    this.stop(Object.assign(new Error('closed'), { code: 'ECONNRESET' }))
    this.wire.end()
  }
}

/** The broker names another server that is to be used (MQTT 5 4.11). */
export class Elsewhere extends FailureError {
  constructor(
    failure: Failure,
    readonly reference: string,
    /** For good, not for this once. */
    readonly moved: boolean,
  ) {
    super(failure, 502)
  }
}

/** Reason codes that send a client elsewhere, for now and for good. */
const USE_ANOTHER = 0x9c
const MOVED = 0x9d

function refusal(failure: Failure, reason: number, reference: string): FailureError {
  const sent = reference !== '' && (reason === USE_ANOTHER || reason === MOVED)
  return sent ? new Elsewhere(failure, reference, reason === MOVED) : new FailureError(failure, 502)
}

/** The greeting says no (MQTT 5 3.2.2.2, 3.1.1 3.2.2.3). */
function refusedConnection(c: Connack): FailureError {
  const r = reasonOf(c.reason, c.reasonString)
  const elsewhere = c.reference ? `; it names ${c.reference}` : ''
  return refusal(
    {
      code: `mqtt.connack-${c.reason}`,
      message: `The broker does not take the connection: ${r.words}${elsewhere}`,
      hint: r.hint,
      where: 'destination',
    },
    c.reason,
    c.reference,
  )
}

/** The broker ended it, and says why (MQTT 5 3.14.2.1). */
function disconnected(p: { reason: number; reasonString: string; reference: string }, clientId: string): FailureError {
  if (p.reason === 0x8e)
    return new FailureError({
      code: 'mqtt.taken-over',
      message: `Another connection uses the client id ${clientId}`,
      hint: 'A broker keeps one connection a client id: give each its own',
      where: 'destination',
    })
  const r = reasonOf(p.reason, p.reasonString)
  const elsewhere = p.reference ? `; it names ${p.reference}` : ''
  const failure: Failure = {
    code: `mqtt.disconnect-${p.reason}`,
    message: `The broker ended the connection: ${r.words}${elsewhere}`,
    hint: r.hint,
    where: 'destination',
  }
  return refusal(failure, p.reason, p.reference)
}
