import type { IPublishPacket } from 'mqtt-packet'
import type { Message } from './message'
import type { Copy } from './truth'

export interface Subscription {
  filter: string
  qos: 0 | 1 | 2
  noLocal: boolean
  keepRetain: boolean
  id: number | null
  /** Name of the group of a shared subscription (MQTT 5 4.8.2). */
  share: string | null
}

export interface Out {
  message: Message
  qos: 1 | 2
  retain: boolean
  ids: number[]
  /** Whether PUBREC has come: then only PUBREL is repeated. */
  received: boolean
  sent: boolean
  /** Its line in the broker's log. */
  copy: Copy | null
}

/** How a session reaches its client while it is connected. */
export interface Line {
  /** Whether deliveries are repeated under new packet identifiers. */
  readonly renumbers: boolean
  publish(packet: IPublishPacket): void
  release(messageId: number): void
  receiveMaximum: number
}

const QUEUE_MAX = 200_000

/** Session state (MQTT 5 4.1): subscriptions, what is in flight, what waits. */
export class Session {
  line: Line | null = null
  readonly subscriptions = new Map<string, Subscription>()
  readonly inflight = new Map<number, Out>()
  readonly queue: Out[] = []
  /** Packet identifiers of QoS 2 messages received and not yet released. */
  readonly incoming = new Set<number>()
  /** Seconds it outlives its connection. */
  expiry = 0
  expiryTimer: NodeJS.Timeout | null = null
  overflowed = 0
  private lastId = 0

  constructor(readonly clientId: string) {}

  deliver(message: Message, qos: 0 | 1 | 2, retain: boolean, ids: number[], copy: Copy | null = null): void {
    if (message.expires !== null && message.expires <= Date.now()) return
    if (qos === 0) {
      if (copy && this.line) copy.sentAt = Date.now()
      this.line?.publish(packet(message, ids, 0, retain, false, undefined))
      return
    }
    const out: Out = { message, qos, retain, ids, received: false, sent: false, copy }
    if (!this.line && this.expiry === 0) return
    if (this.line && this.queue.length === 0 && this.inflight.size < this.line.receiveMaximum) this.send(out)
    else if (this.queue.length < QUEUE_MAX) this.queue.push(out)
    else this.overflowed++
  }

  /** As it stands now, for a broker that comes back with what it had some time ago. */
  copied(): Session {
    const s = new Session(this.clientId)
    for (const [key, sub] of this.subscriptions) s.subscriptions.set(key, sub)
    for (const [id, out] of this.inflight) s.inflight.set(id, { ...out })
    s.queue.push(...this.queue)
    for (const id of this.incoming) s.incoming.add(id)
    s.expiry = this.expiry
    s.lastId = this.lastId
    return s
  }

  private send(out: Out, dup = false): void {
    do this.lastId = (this.lastId % 65_535) + 1
    while (this.inflight.has(this.lastId))
    this.inflight.set(this.lastId, out)
    this.emit(this.lastId, out, dup)
  }

  private emit(id: number, out: Out, dup: boolean): void {
    out.sent = true
    if (out.copy && this.line) out.copy.sentAt ??= Date.now()
    this.line?.publish(packet(out.message, out.ids, out.qos, out.retain, dup, id))
  }

  /** PUBACK, or PUBCOMP after QoS 2. */
  done(id: number): void {
    const out = this.inflight.get(id)
    if (!out) return
    this.inflight.delete(id)
    if (out.copy) out.copy.ackedAt = Date.now()
    this.pump()
  }

  /** PUBREC: false for an unknown identifier. */
  received(id: number): boolean {
    const out = this.inflight.get(id)
    if (!out) return false
    out.received = true
    return true
  }

  private pump(): void {
    const now = Date.now()
    while (this.line && this.queue.length > 0 && this.inflight.size < this.line.receiveMaximum) {
      const next = this.queue.shift()!
      if (next.message.expires === null || next.message.expires > now) this.send(next)
    }
  }

  /** Repeats what was in flight, in order, on a new connection (MQTT 5 4.4), then what waited. */
  resume(): void {
    const before = [...this.inflight]
    if (this.line?.renumbers) {
      this.inflight.clear()
      for (const [, out] of before) this.send(out, out.sent)
      return this.pump()
    }
    for (const [id, out] of before) {
      if (out.received) this.line?.release(id)
      else this.emit(id, out, out.sent)
    }
    this.pump()
  }
}

function packet(message: Message, ids: number[], qos: 0 | 1 | 2, retain: boolean, dup: boolean, messageId: number | undefined): IPublishPacket {
  let properties: IPublishPacket['properties'] = message.properties
  if (message.expires !== null || ids.length > 0) {
    const left = message.expires === null ? undefined : Math.max(0, Math.ceil((message.expires - Date.now()) / 1000))
    properties = {
      ...message.properties,
      ...(left === undefined ? {} : { messageExpiryInterval: left }),
      ...(ids.length === 0 ? {} : { subscriptionIdentifier: ids.length === 1 ? ids[0]! : (ids as unknown as number) }),
    }
  }
  return { cmd: 'publish', topic: message.topic, payload: message.payload, properties, qos, retain, dup, messageId } as IPublishPacket
}
