import type { Socket } from 'node:net'
import type { Duplex } from 'node:stream'
import type { TLSSocket } from 'node:tls'
import type { IConnectPacket, IPublishPacket, ISubscribePacket, Packet } from 'mqtt-packet'
import { delayed } from '../delayed'
import type { User } from './access'
import type { Broker, Door } from './broker'
import type { Message } from './message'
import { PacketReader } from './reader'
import type { Line, Session } from './session'
import { goodFilter, goodTopic } from './topics'
import type { Arrival } from './truth'
import { PacketWriter } from './writer'

/** Reason codes, MQTT 5 2.4. */
const Reason = {
  protocolError: 0x82,
  unsupportedVersion: 0x84,
  badCredentials: 0x86,
  notAuthorized: 0x87,
  takenOver: 0x8e,
  badFilter: 0x8f,
  badTopic: 0x90,
  unknownIdentifier: 0x92,
  packetTooLarge: 0x95,
  quotaExceeded: 0x97,
  retainNotSupported: 0x9a,
  qosNotSupported: 0x9b,
  badAlias: 0x94,
  useAnotherServer: 0x9c,
  serverMoved: 0x9d,
} as const

const RECEIVE_MAXIMUM = 1000
const ALIAS_MAXIMUM = 100

/** Ends it without a word, with a reset where it is a socket. */
function reset(stream: Duplex): void {
  if ('resetAndDestroy' in stream) (stream as Socket).resetAndDestroy()
  else stream.destroy()
}

/** One client on one socket: MQTT 3.1.1 or 5, whichever its CONNECT names. */
export class Connection implements Line {
  session: Session | null = null
  /** What the client allows, and what this broker likes. */
  get receiveMaximum(): number {
    const { inFlight } = this.broker.faults.settings
    return inFlight > 0 ? Math.min(inFlight, this.allowed) : this.allowed
  }
  get renumbers(): boolean {
    return this.broker.faults.settings.renumber
  }
  private allowed = 65_535
  private version: 3 | 4 | 5 = 4
  private readonly reader: PacketReader
  private readonly writer = new PacketWriter()
  private user: User | null = null
  /** The certificate by which the client came, SHA-256 in hexadecimal digits; null: by none. */
  certificate: string | null = null
  private will: Message | null = null
  private willDelayMs = 0
  private readonly aliases = new Map<number, string>()
  private heard = Date.now()
  private timer: NodeJS.Timeout | null = null

  constructor(
    private readonly broker: Broker,
    private readonly socket: Duplex,
    private readonly door: Door,
  ) {
    broker.connections.add(this)
    this.reader = new PacketReader(
      (packet) => {
        try {
          this.handle(packet)
        } catch (e) {
          console.error(`broker: ${e instanceof Error ? e.message : String(e)}`)
          socket.destroy()
        }
      },
      () => this.end(Reason.protocolError),
    )
    const hear = delayed(
      () => broker.faults.settings.slowMs,
      (chunk: Buffer) => {
        if (!socket.destroyed) this.reader.push(chunk)
      },
    )
    socket.on('data', (chunk: Buffer) => {
      this.heard = Date.now()
      hear(chunk)
    })
    socket.on('error', () => socket.destroy())
    socket.on('close', () => this.closed())
  }

  private toFlush = false

  /** What is said in one turn of the event loop goes out in one piece. */
  private write(packet: Packet): void {
    if (!this.socket.writable) return
    this.writer.write(packet)
    if (this.toFlush) return
    this.toFlush = true
    process.nextTick(() => this.flush())
  }

  private flush(): void {
    this.toFlush = false
    const octets = this.writer.take()
    if (octets.length > 0 && this.socket.writable) this.socket.write(octets)
  }

  private hangUp(): void {
    this.flush()
    this.socket.end()
  }

  private handle(p: Packet): void {
    if (p.cmd !== 'connect' && !this.session) {
      this.socket.destroy()
      return
    }
    switch (p.cmd) {
      case 'connect':
        return this.connect(p)
      case 'publish':
        return this.inbound(p)
      case 'subscribe':
        return this.subscribe(p)
      case 'unsubscribe': {
        const codes = p.unsubscriptions.map((f) => (this.broker.unsubscribe(this.session!, f) ? 0x00 : 0x11))
        return this.write({ cmd: 'unsuback', messageId: p.messageId, granted: codes } as unknown as Packet)
      }
      case 'puback':
      case 'pubcomp':
        return this.session!.done(p.messageId!)
      case 'pubrec':
        if ((p.reasonCode ?? 0) >= 0x80) return this.session!.done(p.messageId!)
        if (this.session!.received(p.messageId!)) return this.release(p.messageId!)
        return this.write({ cmd: 'pubrel', messageId: p.messageId!, reasonCode: Reason.unknownIdentifier } as Packet)
      case 'pubrel':
        this.session!.incoming.delete(p.messageId!)
        return this.write({ cmd: 'pubcomp', messageId: p.messageId! } as Packet)
      case 'pingreq':
        return this.write({ cmd: 'pingresp' })
      case 'disconnect': {
        if ((p.reasonCode ?? 0) !== 0x04) this.will = null
        const expiry = p.properties?.sessionExpiryInterval
        if (expiry !== undefined) this.session!.expiry = expiry
        this.hangUp()
        return
      }
      default:
        this.end(Reason.protocolError)
    }
  }

  private refuse(v5: number, v3: number): void {
    this.write({ cmd: 'connack', sessionPresent: false, reasonCode: v5, returnCode: v3 } as unknown as Packet)
    this.hangUp()
  }

  private connect(p: IConnectPacket): void {
    this.broker.greeted++
    this.version = (p.protocolVersion ?? 4) as 3 | 4 | 5
    this.reader.version = this.version
    this.writer.version = this.version
    if (this.session) return this.end(Reason.protocolError)
    if (this.broker.faults.settings.oldOnly && this.version === 5) return this.refuse(Reason.unsupportedVersion, 1)
    if (this.broker.faults.settings.refuseLogins) return this.refuse(Reason.badCredentials, 4)
    const assigned = p.clientId ? null : `auto-${Math.random().toString(36).slice(2, 10)}`
    const clientId = p.clientId || assigned!
    if (this.door === 'mutual') {
      const tls = this.socket as TLSSocket
      const shown = tls.authorized ? tls.getPeerCertificate() : null
      const name = shown?.subject?.CN
      this.certificate = shown?.fingerprint256?.replaceAll(':', '').toLowerCase() ?? null
      const { certificate } = this.broker.rules
      const who =
        typeof name !== 'string'
          ? Reason.notAuthorized
          : certificate
            ? certificate({ name, sha256: this.certificate ?? '', clientId })
            : (this.broker.access.byCertificate(name) ?? Reason.notAuthorized)
      if (typeof who === 'number') return this.refuse(who, 5)
      this.user = who
    } else {
      const who = this.broker.logIn({ user: p.username ?? null, password: p.password?.toString() ?? null, clientId })
      if (typeof who === 'number') return this.refuse(who, who === Reason.badCredentials ? 4 : 5)
      this.user = who
    }
    if (this.version === 5 && this.broker.elsewhere) return this.refuseElsewhere(this.broker.elsewhere)
    const { session, present } = this.broker.open(clientId, p.clean !== false)
    this.session = session
    session.expiry = this.version === 5 ? (p.properties?.sessionExpiryInterval ?? 0) : p.clean === false ? 0xffffffff : 0
    this.allowed = p.properties?.receiveMaximum ?? 65_535
    if (p.will)
      this.will = {
        topic: p.will.topic,
        payload: Buffer.from(p.will.payload),
        qos: p.will.qos ?? 0,
        retain: p.will.retain ?? false,
        expires: null,
        properties: {},
        from: clientId,
      }
    this.willDelayMs = (p.will?.properties?.willDelayInterval ?? 0) * 1000
    if (p.keepalive) {
      const limit = p.keepalive * 1500
      this.timer = setInterval(() => {
        if (Date.now() - this.heard > limit) this.socket.destroy()
      }, limit / 3)
    }
    this.write({
      cmd: 'connack',
      sessionPresent: present,
      reasonCode: 0,
      returnCode: 0,
      ...(this.version === 5 && {
        properties: {
          receiveMaximum: RECEIVE_MAXIMUM,
          topicAliasMaximum: ALIAS_MAXIMUM,
          ...this.limits(),
          ...(assigned ? { assignedClientIdentifier: assigned } : {}),
        },
      }),
    } as unknown as Packet)
    session.line = this
    session.resume()
  }

  /** Of the greeting (MQTT 5 3.2.2.3). */
  private limits(): object {
    const { maximumQos, retainAvailable, maximumPacketSize } = this.broker.faults.settings
    return {
      ...(maximumQos < 2 && { maximumQoS: maximumQos }),
      ...(!retainAvailable && { retainAvailable: false }),
      ...(maximumPacketSize > 0 && { maximumPacketSize }),
    }
  }

  /** What goes beyond its limits, or its taste, ends the connection. True: it did. */
  private isOffended(p: IPublishPacket): boolean {
    const { maximumQos, retainAvailable, maximumPacketSize, hangUpOn } = this.broker.faults.settings
    if (hangUpOn !== '' && p.topic.includes(hangUpOn)) reset(this.socket)
    else if (p.qos > maximumQos) this.end(Reason.qosNotSupported)
    else if (p.retain && !retainAvailable) this.end(Reason.retainNotSupported)
    else if (maximumPacketSize > 0 && p.length! > maximumPacketSize) this.end(Reason.packetTooLarge)
    else return false
    return true
  }

  private inbound(p: IPublishPacket): void {
    if (this.isOffended(p)) return
    const session = this.session!
    let topic = p.topic
    const alias = p.properties?.topicAlias
    if (alias !== undefined) {
      if (alias < 1 || alias > ALIAS_MAXIMUM) return this.end(Reason.badAlias)
      if (topic) this.aliases.set(alias, topic)
      else topic = this.aliases.get(alias) ?? ''
    }
    if (!goodTopic(topic)) return this.end(Reason.badTopic)
    const { quota, swallow } = this.broker.faults.settings
    if (quota && this.version === 5 && p.qos > 0)
      return this.write({ cmd: p.qos === 1 ? 'puback' : 'pubrec', messageId: p.messageId!, reasonCode: Reason.quotaExceeded } as Packet)
    const swallowed = swallow !== '' && topic.includes(swallow)
    const allowed = this.broker.access.mayPublish(this.user!, topic)
    if (!allowed && this.version !== 5) return this.end(Reason.notAuthorized)
    let reasonCode: number = allowed ? 0 : Reason.notAuthorized
    let arrival: Arrival | null = null
    const known = p.qos === 2 && session.incoming.has(p.messageId!)
    const payload = Buffer.isBuffer(p.payload) ? p.payload : Buffer.from(p.payload)
    if (allowed && !known && !swallowed) {
      const { payloadFormatIndicator, contentType, responseTopic, correlationData, userProperties } = p.properties ?? {}
      const expiry = p.properties?.messageExpiryInterval
      const message: Message = {
        topic,
        payload,
        qos: p.qos,
        retain: p.retain,
        expires: expiry === undefined ? null : Date.now() + expiry * 1000,
        properties: { payloadFormatIndicator, contentType, responseTopic, correlationData, userProperties },
        from: session.clientId,
      }
      const { rules } = this.broker
      const refusal = rules.refuses?.(message, payload.length) ?? null
      if (refusal && (refusal.end || this.version !== 5)) return this.end(refusal.reason)
      if (refusal) reasonCode = refusal.reason
      else {
        arrival = this.broker.publish(message)
        rules.taken?.(message)
      }
    }
    if (p.qos === 2 && allowed) session.incoming.add(p.messageId!)
    if (p.qos > 0) this.acknowledge({ cmd: p.qos === 1 ? 'puback' : 'pubrec', messageId: p.messageId!, reasonCode } as Packet, arrival)
  }

  private acknowledge(packet: Packet, arrival: Arrival | null): void {
    if (this.broker.faults.dropsAck()) {
      if (arrival) arrival.ack = 'dropped'
      return
    }
    if (arrival) arrival.ack = 'sent'
    this.write(packet)
    if (this.broker.faults.closesAfterAck()) this.hangUp()
  }

  private subscribe(p: ISubscribePacket): void {
    this.broker.asked++
    const { subackMs } = this.broker.faults.settings
    if (subackMs === 0) return this.subscribeNow(p)
    setTimeout(() => {
      if (this.session && !this.socket.destroyed) this.subscribeNow(p)
    }, subackMs).unref()
  }

  private subscribeNow(p: ISubscribePacket): void {
    const session = this.session!
    const { refuseFilter } = this.broker.faults.settings
    const fresh: { filter: string; qos: 0 | 1 | 2; handling: number; known: boolean }[] = []
    const granted = p.subscriptions.map((s) => {
      const share = /^\$share\/([^/+#]+)\/(.+)$/.exec(s.topic)
      const filter = share ? share[2]! : s.topic
      if (!goodFilter(filter)) return this.version === 5 ? Reason.badFilter : 0x80
      if (refuseFilter !== '' && filter.includes(refuseFilter)) return this.version === 5 ? Reason.notAuthorized : 0x80
      if (!this.broker.access.maySubscribe(this.user!, filter)) return this.version === 5 ? Reason.notAuthorized : 0x80
      const known = session.subscriptions.has(s.topic)
      this.broker.subscribe(session, s.topic, {
        filter,
        qos: s.qos,
        noLocal: s.nl ?? false,
        keepRetain: s.rap ?? false,
        id: p.properties?.subscriptionIdentifier ?? null,
        share: share ? share[1]! : null,
      })
      if (!share) fresh.push({ filter, qos: s.qos, handling: s.rh ?? 0, known })
      return s.qos
    })
    this.write({ cmd: 'suback', messageId: p.messageId!, granted } as Packet)
    const id = p.properties?.subscriptionIdentifier
    for (const f of fresh) {
      if (f.handling === 2 || (f.handling === 1 && f.known)) continue
      for (const m of this.broker.retainedFor(f.filter)) session.deliver(m, Math.min(m.qos, f.qos) as 0 | 1 | 2, true, id === undefined ? [] : [id])
    }
  }

  publish(packet: Parameters<Line['publish']>[0]): void {
    this.write(packet)
  }

  release(messageId: number): void {
    this.write({ cmd: 'pubrel', messageId } as Packet)
  }

  /** Ends this connection alone, without a word. */
  drop(): void {
    this.socket.destroy()
  }

  takenOver(): void {
    const session = this.session
    this.end(Reason.takenOver)
    this.session = null
    if (session) session.line = null
    // What was said goes out first.
    this.socket.end(() => this.socket.destroy())
  }

  /** Said at once, or after its delay unless the client is back by then (MQTT 5 3.1.3.2.2). */
  private sayWill(): void {
    const { will, session } = this
    if (!will) return
    if (this.willDelayMs === 0) this.broker.publish(will)
    else
      setTimeout(() => {
        if (!session?.line) this.broker.publish(will)
      }, this.willDelayMs).unref()
  }

  private refuseElsewhere({ reference, moved }: { reference: string; moved: boolean }): void {
    const reasonCode = moved ? Reason.serverMoved : Reason.useAnotherServer
    this.write({ cmd: 'connack', sessionPresent: false, reasonCode, properties: { serverReference: reference } } as unknown as Packet)
    this.hangUp()
  }

  sendElsewhere({ reference, moved }: { reference: string; moved: boolean }): void {
    if (this.version !== 5 || !this.session) return
    const reasonCode = moved ? Reason.serverMoved : Reason.useAnotherServer
    this.write({ cmd: 'disconnect', reasonCode, properties: { serverReference: reference } } as unknown as Packet)
    this.hangUp()
  }

  /** Says why, and hangs up. */
  end(reasonCode: number): void {
    if (this.version === 5 && this.session) this.write({ cmd: 'disconnect', reasonCode } as Packet)
    this.hangUp()
  }

  private closed(): void {
    this.broker.connections.delete(this)
    if (this.timer) clearInterval(this.timer)
    if (this.session && this.session.line === this) {
      this.broker.rules.left?.(this.session.clientId)
      this.broker.leave(this.session)
    }
    this.sayWill()
  }
}
