import type { Failure } from '~/contract/failure'
import { AHEAD } from '~/core/delivery/delivery-store'
import type { Envelope } from '~/core/delivery/envelope'
import { unpackProperties } from '~/core/delivery/properties'
import type { Publishing } from '~/core/mqtt/publish'
import { qosOf } from '~/core/mqtt/qos'
import { reasonOf } from '~/core/mqtt/reasons'
import { NAMESPACE } from '~/core/shape/sparkplug-metric'
import type { MqttLink } from '../../net/mqtt-link'
import type { Answer, DestinationConnection, DestinationSink, Outgoing, Remembered } from '../driver'
import type { RunningSession } from './session'

/** Octets in the wire's buffer beyond which it counts as full. */
const FULL = 1 << 20
const PACKET_IDS = 65_535
const encoder = new TextEncoder()

/** Messages that a run before may have left half way at most: the broker is told at once that it may forget them. */
const LEFT_OVER = 1000

interface UnderWay {
  m: Outgoing
  answer: (a: Answer) => void
}

interface HeldOne {
  ordinal: number
  written: boolean
}

/** Packet identifiers of QoS 2 whose message the broker has, and that it has not answered to be free again; over all connections. */
class Held {
  /** Whether it is written that the message is done: only then may the broker forget that it has it. */
  readonly ids = new Map<number, HeldOne>()
  /** The connection of this moment. */
  link: MqttLink | null = null

  static of(remembered: Remembered): Held {
    let held = remembered.get('held') as Held | undefined
    if (!held) remembered.set('held', (held = new Held()))
    return held
  }

  written(id: number, one: HeldOne): void {
    one.written = true
    if (this.ids.get(id) === one) this.link?.release(id)
  }
}

/** The packet identifier of a message: by its position, so that it is the same one after a lost link or a new start. */
const packetIdOf = (ordinal: number): number => 1 + (ordinal % PACKET_IDS)

const octets = (payload: string | Uint8Array) => (typeof payload === 'string' ? encoder.encode(payload) : payload)

/** Sends over one connection: QoS 0, 1 and 2 (MQTT 5 4.3), within all that the broker's greeting allows. */
export class MqttSender implements DestinationConnection {
  private readonly underWay = new Map<number, UnderWay>()
  /** QoS 0 has no acknowledgement: a ping's answer shows that the broker has read what went before it. */
  private zero: UnderWay[] = []
  private zeroPinged: { ping: number; up: UnderWay[] } | null = null
  private readonly heard_: { ping: number; done: () => void }[] = []
  private readonly held: Held
  private readonly present: boolean
  private full = false
  private readonly ends: (() => void)[] = []
  /** Identifiers of QoS 2 that this connection has seen to be free: a broker that went on may hold others, whatever we know of them. */
  private readonly freed = new Set<number>()

  constructor(
    private readonly link: MqttLink,
    private readonly wantedWindow: number,
    private readonly sink: DestinationSink,
    private readonly session: RunningSession | null,
    remembered: Remembered,
  ) {
    const { connack } = link
    this.held = Held.of(remembered)
    this.held.link = link
    this.present = connack.sessionPresent
    if (!this.present) this.held.ids.clear()
    else {
      // What an earlier run was through with, up to the last step: a broker that counts what it holds would else soon be full.
      const many = Math.min(connack.receiveMaximum + 2 * wantedWindow, LEFT_OVER, AHEAD)
      if (!remembered.has('ran')) for (const ordinal of sink.doneLately(many)) link.release(packetIdOf(ordinal))
      for (const [id, one] of this.held.ids) if (one.written) link.release(id)
    }
    remembered.set('ran', true)
  }

  get window(): number {
    return Math.min(this.wantedWindow, this.link.connack.receiveMaximum)
  }

  unfit({ envelope: e, id }: Outgoing): Failure | null {
    const { connack, version } = this.link
    const no = (code: string, why: string, hint: string): Failure => ({
      code: `mqtt.${code}`,
      message: `A message to ${e.topic.slice(0, 200)} was not sent: ${why}`,
      hint,
      where: 'destination',
    })
    if (e.topic === '' || /[\0#+]/.test(e.topic)) return no('topic', 'its topic has characters that no topic may have', 'Change the topic template')
    if (e.topic.length > 65_535 / 3 && encoder.encode(e.topic).length > 65_535)
      return no('topic', 'its topic is too long', 'Change the topic template')
    const qos = qosOf[e.assurance]
    const p = unpackProperties(e.properties)
    if (qos > connack.maximumQos)
      return no('qos', `the broker takes no QoS above ${connack.maximumQos}, it has ${qos}`, 'Choose a lower QoS in the publication')
    if (p.kept && !connack.retainAvailable) return no('retain', 'the broker keeps no retained messages', 'Switch retain off in the publication')
    if (version === 5 && e.properties !== '') {
      for (const text of [p.contentType, p.responseTopic, ...p.headers.flat()]) {
        if (text.includes('\0')) return no('header', 'a header holds a NUL, which MQTT cannot carry', 'Correct where its value comes from')
        if (text.length > 21_845 && encoder.encode(text).length > 65_535)
          return no('header', 'a header is too long', 'Correct where its value comes from')
      }
    }
    if (e.payload.length + 1000 > connack.maximumPacketSize || connack.maximumPacketSize < 65_536) {
      const size = this.link.sizeOf(this.framed({ envelope: e, id, ordinal: 0, again: false, inDoubt: false, alone: false }))
      if (size > connack.maximumPacketSize)
        return no(
          'size',
          `it has ${size} octets, the broker takes ${connack.maximumPacketSize}`,
          'Send less in one message, or raise the limit there',
        )
    }
    return null
  }

  private framed({ envelope: e, id, ordinal, again }: Outgoing): Publishing {
    const { expiryS, kept = false } = unpackProperties(e.properties)
    const qos = qosOf[e.assurance]
    return {
      topic: e.topic,
      payload: octets(e.payload),
      qos,
      retain: kept,
      dup: again && qos > 0 && this.present,
      packetId: qos > 0 ? packetIdOf(ordinal) : 0,
      properties: e.properties,
      id,
      // What waited in the outbox has less of its time left.
      expiryS: expiryS === null ? null : Math.max(1, expiryS - Math.floor((this.sink.wall() - e.producedAt) / 1000)),
    }
  }

  ready(ordinal: number, e: Envelope): boolean {
    const id = packetIdOf(ordinal)
    const far = e.assurance === 'once' && (ordinal - this.oldest() > AHEAD || !this.sink.mayGoOut(ordinal))
    const crowded = this.underWay.size + this.held.ids.size >= this.link.connack.receiveMaximum
    // An identifier that is still in use: its turn has not come.
    this.full = far || this.link.pending >= FULL || crowded || this.underWay.has(id) || this.held.ids.has(id)
    return !this.full
  }

  /** About the oldest position whose identifier the broker may hold: none that it answers out of turn is older by more than `AHEAD`. */
  private oldest(): number {
    const [held] = this.held.ids.values()
    const [up] = this.underWay.values()
    return Math.min(held?.ordinal ?? Number.POSITIVE_INFINITY, up?.m.ordinal ?? Number.POSITIVE_INFINITY)
  }

  private again(): void {
    if (!this.full) return
    this.full = false
    this.sink.ready()
  }

  drained(): void {
    this.again()
  }

  send(m: Outgoing, answer: (a: Answer) => void): void {
    const { envelope: e } = m
    const p = this.framed(m)
    const session = e.topic.startsWith(`${NAMESPACE}/`) ? this.session : null
    session?.before(e.topic)
    if (session) p.payload = session.payload(e)
    if (p.qos > 0) this.underWay.set(p.packetId, { m, answer })
    if (p.qos === 2) this.free(p.packetId, m)
    this.link.publish(p)
    session?.after(e)
    if (p.qos > 0) return
    this.zero.push({ m, answer })
    this.askZero()
  }

  /**
   * A broker that still holds the identifier would take a message that never went out for the one that it has, and acknowledge
   * what it does not have (MQTT 5 4.3.3): it is told first to let go. One that may have been on the wire goes out as it did then.
   */
  private free(id: number, { again, inDoubt }: Outgoing): void {
    if (!this.present || this.freed.has(id)) return
    if (!again && !inDoubt) this.link.release(id)
    this.freed.add(id)
  }

  private askZero(): void {
    if (this.zeroPinged || this.zero.length === 0) return
    const up = this.zero
    this.zero = []
    this.zeroPinged = { ping: this.link.ping(), up }
  }

  pong(number: number): void {
    if (this.zeroPinged && number >= this.zeroPinged.ping) {
      const { up } = this.zeroPinged
      this.zeroPinged = null
      for (const { answer } of up) answer({ kind: 'has' })
      this.askZero()
    }
    while (this.heard_[0] && number >= this.heard_[0].ping) this.heard_.shift()!.done()
  }

  heard(): Promise<void> {
    return new Promise((done) => this.heard_.push({ ping: this.link.ping(), done }))
  }

  /** PUBACK, PUBREC, PUBCOMP: MQTT 5 3.4 to 3.7. */
  answered(step: 'puback' | 'pubrec' | 'pubcomp', packetId: number, reason: number, reasonString: string): void {
    if (step === 'pubcomp') {
      // An answer to a release before that of the message which is held now does not free it.
      if (this.held.ids.get(packetId)?.written === false) return
      this.held.ids.delete(packetId)
      return this.again()
    }
    const one = this.underWay.get(packetId)
    if (!one) {
      // A PUBREC that comes again: the broker is still to be told to let go.
      if (step === 'pubrec' && this.held.ids.get(packetId)?.written) this.link.release(packetId)
      return
    }
    this.underWay.delete(packetId)
    if (reason >= 0x80) {
      const r = reasonOf(reason, reasonString)
      const failure: Failure = {
        code: `mqtt.refused-${reason}`,
        message: `${one.m.envelope.topic.slice(0, 200)} was rejected: ${reason === 0x87 ? 'not allowed to publish there' : r.words}`,
        hint: r.hint,
        where: 'destination',
      }
      one.answer(r.temporary ? { kind: 'later', failure } : { kind: 'refused', failure })
    } else if (step === 'pubrec') {
      const held = { ordinal: one.m.ordinal, written: false }
      this.held.ids.set(packetId, held)
      one.answer({ kind: 'has' })
      // Only when that is written: a new start would else send it again to a broker that has forgotten it.
      this.sink.durable(() => this.held.written(packetId, held))
    } else one.answer({ kind: 'has' })
    this.again()
  }

  /** Calls `then` when this connection is over. */
  whenOver(then: () => void): void {
    this.ends.push(then)
  }

  /** The link is gone. What went out at QoS 0 and was not shown to be read must not go out again. */
  lost(): void {
    for (const end of this.ends.splice(0)) end()
    for (const { answer } of [...(this.zeroPinged?.up ?? []), ...this.zero]) answer({ kind: 'left' })
    this.zero = []
    this.zeroPinged = null
    for (const h of this.heard_.splice(0)) h.done()
    if (this.held.link === this.link) this.held.link = null
  }

  close(): void {
    this.lost()
    this.session?.die()
    this.link.close()
  }
}
