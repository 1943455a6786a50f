import mqtt, { type IPublishPacket, type Packet } from 'mqtt-packet'
import { topicMatches } from '~/standins/broker/topics'
import type { Link, Peer } from './net'
import type { Scheduler } from './scheduler'

/** Habits of a broker, each seen somewhere. Shares from 0 to 1, times in ms. */
export interface Temper {
  /** Most deliveries without acknowledgement, whatever the client allows. */
  inFlight: number
  /** Repeats under new packet identifiers (against MQTT 5 4.4). */
  newIds: boolean
  /** Comes back from a kill with what it had some seconds before. */
  oldSession: boolean
  subackMs: number
  /** Takes, and acknowledges so much later. */
  ackMs: number
  dropAcks: number
  /** Copies for subscribers that vanish or are handed out twice. */
  dropCopies: number
  doubleCopies: number
  /** Hangs up on messages to topics that hold this. */
  hangsUpOn: string | null
  /** Refuses them for good (MQTT 5), or takes them and passes them to nobody (3.1.1). */
  refuses: string | null
  /** Says "quota used up" until then. */
  quotaUntil: number
  /** Share of messages that it says so to at any time (MQTT 5). */
  busy: number
  maximumPacketSize: number | null
  maximumQos: 0 | 1 | 2
}

export const mild = (): Temper => ({
  inFlight: 65_535,
  newIds: false,
  oldSession: false,
  subackMs: 0,
  ackMs: 0,
  dropAcks: 0,
  dropCopies: 0,
  doubleCopies: 0,
  hangsUpOn: null,
  refuses: null,
  quotaUntil: 0,
  busy: 0,
  maximumPacketSize: null,
  maximumQos: 2,
})

/** One copy of a message for one subscriber. */
export interface Copy {
  n: number
  key: string
  client: string
  /** Whether it reached the subscriber's process, and when first. */
  arrivedAt: number | null
  acked: boolean
  /** It is nowhere any more: dropped by temper, or with the broker's memory. */
  gone: boolean
  /** At QoS 0: the connection that it was written to. */
  link: Link | null
}

interface Out {
  copy: Copy
  topic: string
  payload: Buffer
  properties: IPublishPacket['properties']
  qos: 0 | 1
  sent: boolean
}

export interface Arrival {
  key: string
  topic: string
  qos: 0 | 1 | 2
  at: number
  from: string
  /** Clients with a session that subscribed to it at that moment. */
  routed: string[]
  /** Taken, acknowledged, and passed to nobody. */
  swallowed: boolean
}

class Session {
  subscriptions = new Map<string, 0 | 1 | 2>()
  inflight = new Map<number, Out>()
  queue: Out[] = []
  incoming = new Set<number>()
  lastId = 0
  keep = false

  copy(): Session {
    const s = new Session()
    s.subscriptions = new Map(this.subscriptions)
    s.inflight = new Map([...this.inflight].map(([id, o]) => [id, { ...o }]))
    s.queue = this.queue.map((o) => ({ ...o }))
    s.incoming = new Set(this.incoming)
    s.lastId = this.lastId
    s.keep = this.keep
    return s
  }
}

/** A broker of a world, on octets: 3.1.1 and 5, with sessions, QoS 0 to 2, and a temper. Keeps a log of all that it took and handed out. */
export class SimBroker {
  private sessions = new Map<string, Session>()
  private snapshot = new Map<string, Session>()
  readonly connections = new Map<string, Connection>()
  readonly arrivals: Arrival[] = []
  readonly copies = new Map<string, Copy[]>()
  private copyNumber = 0
  /** What a session of a client was lost with, and when: nobody can know more after that. */
  readonly forgot: { client: string; at: number }[] = []
  temper: Temper = mild()
  up = true

  constructor(
    readonly scheduler: Scheduler,
    readonly random: () => number,
    readonly keyOf: (topic: string, payload: Buffer, p: IPublishPacket) => string,
    /** An answer to a message reached the client. */
    readonly answered: (link: Link, again: boolean) => void = () => undefined,
  ) {
    const snap = () => {
      this.snapshot = new Map([...this.sessions].map(([id, s]) => [id, s.copy()]))
      scheduler.in(4000, snap)
    }
    snap()
  }

  accept(link: Link): Peer | null {
    return this.up ? new Connection(this, link) : null
  }

  session(client: string, clean: boolean): { session: Session; present: boolean } {
    let session = this.sessions.get(client)
    const present = session !== undefined && !clean
    if (!session || clean) {
      if (session) this.lose(client, session)
      session = new Session()
      this.sessions.set(client, session)
    }
    return { session, present }
  }

  private lose(client: string, session: Session): void {
    this.forgot.push({ client, at: this.scheduler.now })
    for (const o of [...session.inflight.values(), ...session.queue]) o.copy.gone = true
  }

  leave(client: string, session: Session): void {
    if (session.keep || this.sessions.get(client) !== session) return
    this.lose(client, session)
    this.sessions.delete(client)
  }

  publish(p: IPublishPacket, from: string, swallowed = false): void {
    const payload = Buffer.isBuffer(p.payload) ? p.payload : Buffer.from(p.payload)
    const key = this.keyOf(p.topic, payload, p)
    const arrival: Arrival = { key, topic: p.topic, qos: p.qos, at: this.scheduler.now, from, routed: [], swallowed }
    this.arrivals.push(arrival)
    if (swallowed) return
    for (const [client, session] of this.sessions) {
      const qos = Math.max(-1, ...[...session.subscriptions].filter(([f]) => topicMatches(f, p.topic)).map(([, q]) => q))
      if (qos < 0) continue
      arrival.routed.push(client)
      const twice = this.random() < this.temper.doubleCopies
      for (let i = 0; i < (twice ? 2 : 1); i++) {
        const copy: Copy = { n: ++this.copyNumber, key, client, arrivedAt: null, acked: false, gone: false, link: null }
        this.copies.set(key, [...(this.copies.get(key) ?? []), copy])
        if (this.random() < this.temper.dropCopies) {
          copy.gone = true
          continue
        }
        const out: Out = { copy, topic: p.topic, payload, properties: p.properties, qos: Math.min(1, qos, p.qos) as 0 | 1, sent: false }
        const line = this.connections.get(client)
        if (out.qos === 0) {
          if (line) line.hand(out, 0, false)
          else copy.gone = true
          continue
        }
        session.queue.push(out)
        line?.pump()
      }
    }
  }

  /** Ends all connections; comes back later with its memory, without it, or with an older one. */
  restart(memory: 'kept' | 'older' | 'none', awayMs: number): void {
    this.up = false
    for (const c of [...this.connections.values()]) c.link.cut()
    this.connections.clear()
    if (memory === 'none') {
      for (const [client, s] of this.sessions) this.lose(client, s)
      this.sessions = new Map()
    } else if (memory === 'older') {
      const back = new Map([...this.snapshot].map(([id, s]) => [id, s.copy()]))
      for (const [client, s] of this.sessions) {
        const there = new Set([...(back.get(client)?.inflight.values() ?? []), ...(back.get(client)?.queue ?? [])].map((o) => o.copy.n))
        for (const o of [...s.inflight.values(), ...s.queue]) if (!there.has(o.copy.n)) o.copy.gone = true
        this.forgot.push({ client, at: this.scheduler.now })
      }
      this.sessions = back
    }
    this.scheduler.in(awayMs, () => {
      this.up = true
    })
  }

  /** What was refused once may be taken when it comes again, after later ones: its refusal may have been lost. */
  readonly refusedOnce = new Set<string>()
  /** Topics to which something was refused, or at which it hung up; and what its greetings ever ruled out. */
  readonly disliked = new Set<string>()
  lowestQos = 2
  everSmall = false
  noteRefused(p: IPublishPacket): void {
    this.refusedOnce.add(this.keyOf(p.topic, Buffer.from(p.payload), p))
    this.disliked.add(p.topic)
  }

  /** Whether something of this message is still to reach the client. */
  pendingFor(client: string, key: string): boolean {
    return (this.copies.get(key) ?? []).some((c) => c.client === client && !c.gone && !c.acked && c.arrivedAt === null && !c.link?.lost)
  }
}

class Connection implements Peer {
  private version: 3 | 4 | 5 = 4
  private readonly parsing = { protocolVersion: 4 }
  private readonly parser = mqtt.parser(this.parsing)
  private session: Session | null = null
  private client = ''
  private receiveMaximum = 65_535
  private over = false

  constructor(
    private readonly broker: SimBroker,
    readonly link: Link,
  ) {
    this.parser.on('packet', (p: Packet) => this.handle(p))
    this.parser.on('error', () => this.link.cut())
  }

  data(chunk: Uint8Array): void {
    if (!this.over) this.parser.parse(Buffer.from(chunk))
  }

  closed(): void {
    if (this.over) return
    this.over = true
    if (this.broker.connections.get(this.client) === this) this.broker.connections.delete(this.client)
    if (this.session) this.broker.leave(this.client, this.session)
  }

  private say(packet: Packet): void {
    const tells = packet.cmd === 'puback' || packet.cmd === 'pubrec'
    this.link.reply(
      mqtt.generate(packet, { protocolVersion: this.version }),
      () => tells && this.broker.answered(this.link, (packet as { reasonCode?: number }).reasonCode === 0x97),
    )
  }

  private handle(p: Packet): void {
    if (this.over) return
    const { broker } = this
    const { temper, scheduler } = broker
    switch (p.cmd) {
      case 'connect': {
        this.version = (p.protocolVersion ?? 4) as 4 | 5
        this.parsing.protocolVersion = this.version
        this.client = p.clientId
        broker.connections.get(p.clientId)?.link.cut()
        const { session, present } = broker.session(p.clientId, p.clean !== false)
        this.session = session
        session.keep = this.version === 5 ? (p.properties?.sessionExpiryInterval ?? 0) > 0 : p.clean === false
        broker.lowestQos = Math.min(broker.lowestQos, temper.maximumQos)
        broker.everSmall ||= temper.maximumPacketSize !== null
        this.receiveMaximum = Math.min(p.properties?.receiveMaximum ?? 65_535, temper.inFlight)
        broker.connections.set(p.clientId, this)
        this.say({
          cmd: 'connack',
          sessionPresent: present,
          reasonCode: 0,
          returnCode: 0,
          ...(this.version === 5 && {
            properties: {
              ...(temper.maximumPacketSize !== null && { maximumPacketSize: temper.maximumPacketSize }),
              ...(temper.maximumQos < 2 && { maximumQoS: temper.maximumQos }),
            },
          }),
        } as unknown as Packet)
        this.resume()
        return
      }
      case 'publish':
        return this.inbound(p)
      case 'pubrel':
        this.session?.incoming.delete(p.messageId!)
        return this.say({ cmd: 'pubcomp', messageId: p.messageId! } as Packet)
      case 'puback': {
        const out = this.session?.inflight.get(p.messageId!)
        if (!out) return
        this.session!.inflight.delete(p.messageId!)
        out.copy.acked = true
        return this.pump()
      }
      case 'subscribe': {
        const session = this.session!
        scheduler.in(temper.subackMs, () => {
          if (this.over) return
          for (const s of p.subscriptions) session.subscriptions.set(s.topic, s.qos)
          this.say({ cmd: 'suback', messageId: p.messageId!, granted: p.subscriptions.map((s) => s.qos) } as Packet)
        })
        return
      }
      case 'unsubscribe':
        for (const f of p.unsubscriptions) this.session!.subscriptions.delete(f)
        return this.say({ cmd: 'unsuback', messageId: p.messageId!, granted: p.unsubscriptions.map(() => 0) } as unknown as Packet)
      case 'pingreq':
        return this.say({ cmd: 'pingresp' })
      case 'disconnect':
        return this.link.cut('ended')
      default:
    }
  }

  private inbound(p: IPublishPacket): void {
    const { temper, scheduler, random } = this.broker
    const dislikes =
      (temper.hangsUpOn !== null && p.topic.includes(temper.hangsUpOn)) || (temper.maximumPacketSize !== null && p.length! > temper.maximumPacketSize)
    if (dislikes) {
      this.broker.disliked.add(p.topic)
      return this.link.cut()
    }
    const ack = (reasonCode: number) => {
      if (p.qos === 0 || random() < temper.dropAcks) return
      const answer = { cmd: p.qos === 1 ? 'puback' : 'pubrec', messageId: p.messageId!, reasonCode } as Packet
      if (temper.ackMs === 0) this.say(answer)
      else scheduler.in(temper.ackMs, () => !this.over && this.say(answer))
    }
    const repeated = p.qos === 2 && this.session!.incoming.has(p.messageId!)
    const busy = scheduler.now < temper.quotaUntil || (temper.busy > 0 && !repeated && random() < temper.busy)
    if (busy && p.qos > 0 && this.version === 5) {
      this.broker.noteRefused(p)
      return ack(0x97)
    }
    const refused = temper.refuses !== null && p.topic.includes(temper.refuses)
    if (refused && this.version === 5) {
      this.broker.noteRefused(p)
      return ack(0x87)
    }
    if (!repeated) this.broker.publish(p, this.client, refused)
    if (p.qos === 2) this.session!.incoming.add(p.messageId!)
    ack(0)
  }

  /** Hands out what waits, as much as may be in flight. */
  pump(): void {
    const s = this.session!
    while (s.queue.length > 0 && s.inflight.size < this.receiveMaximum) {
      const out = s.queue.shift()!
      this.hand(out, this.nextId(), false)
    }
  }

  private nextId(): number {
    const s = this.session!
    do s.lastId = (s.lastId % 65_535) + 1
    while (s.inflight.has(s.lastId))
    return s.lastId
  }

  hand(out: Out, id: number, dup: boolean): void {
    if (id > 0) this.session!.inflight.set(id, out)
    out.sent = true
    const { topic, payload, qos } = out
    const { userProperties } = out.properties ?? {}
    const properties = this.version === 5 && userProperties ? { userProperties } : undefined
    const bytes = mqtt.generate(
      {
        cmd: 'publish',
        topic,
        payload,
        qos,
        retain: false,
        dup,
        ...(id > 0 && { messageId: id }),
        ...(properties && { properties }),
      } as IPublishPacket,
      { protocolVersion: this.version },
    )
    this.link.reply(bytes, () => {
      out.copy.arrivedAt ??= this.broker.scheduler.now
    })
    if (qos === 0) out.copy.link = this.link
    if (qos === 0) this.broker.scheduler.in(60_000, () => (out.copy.gone ||= out.copy.arrivedAt === null))
  }

  /** Repeats what was in flight (MQTT 5 4.4), then what waited. */
  private resume(): void {
    const s = this.session!
    const before = [...s.inflight]
    if (this.broker.temper.newIds) s.inflight.clear()
    for (const [id, out] of before) this.hand(out, this.broker.temper.newIds ? this.nextId() : id, out.sent)
    this.pump()
  }
}
