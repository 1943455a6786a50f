import type { Socket } from 'node:net'
import mqtt, { type IConnackPacket, type IPublishPacket, type ISubackPacket, type Packet } from 'mqtt-packet'
import { FailureError } from '~/contract/failure'
import { connackFailure, type MqttAccess, openSocket } from '../net/mqtt-access'

export interface ReaderHooks {
  /** Called for each message; one of QoS 1 is to be acknowledged, whenever the caller is ready. */
  message(packet: IPublishPacket): void
  /** The broker took us in, before its first message; `sessionPresent` tells whether it remembers us. */
  greeted?(reader: MqttReader, sessionPresent: boolean): void
  /** The broker answered the ping of this number: it has all that was written before it. */
  pong?(number: number): void
  closed(why: unknown): void
}

const EXPIRY_S = 7 * 86_400
const RECEIVE_MAXIMUM = 20_000

/**
 * A reading MQTT client of its own (5 and 3.1.1), sharing no code with the one that sends. It keeps its session at the broker,
 * and acknowledges a message only when told to, so that what it saw and did not keep is delivered again.
 */
export class MqttReader {
  private nextId = 1
  private readonly waiting = new Map<number, (packet: Packet) => void>()
  private ping: NodeJS.Timeout | null = null
  private heard = Date.now()
  private over = false

  private constructor(
    private readonly socket: Socket,
    private readonly hooks: ReaderHooks,
    private readonly version: 4 | 5,
  ) {}

  /** Connects; rejects with a FailureError when the broker says no. `sessionPresent` tells whether it remembers us. */
  static async connect(a: MqttAccess, hooks: ReaderHooks, keepSession = true): Promise<{ reader: MqttReader; sessionPresent: boolean }> {
    const socket = await openSocket(a)
    const five = a.protocol === '5'
    const reader = new MqttReader(socket, hooks, five ? 5 : 4)
    const connack = await new Promise<IConnackPacket>((done, failed) => {
      const timer = setTimeout(() => failed(Object.assign(new Error('no CONNACK'), { code: 'ETIMEDOUT' })), 10_000)
      const parser = mqtt.parser({ protocolVersion: reader.version })
      let greeted = false
      parser.on('packet', (p: Packet) => {
        if (greeted) return reader.handle(p)
        clearTimeout(timer)
        if (p.cmd !== 'connack') return failed(new Error(`expected CONNACK, got ${p.cmd}`))
        greeted = true
        if ((five ? p.reasonCode : p.returnCode) === 0) hooks.greeted?.(reader, p.sessionPresent)
        done(p)
      })
      parser.on('error', (e: Error) => {
        failed(e)
        socket.destroy(e)
      })
      socket.on('data', (chunk: Buffer) => {
        reader.heard = Date.now()
        parser.parse(chunk)
      })
      let why: unknown = Object.assign(new Error('connection closed'), { code: 'ECONNRESET' })
      socket.on('error', (e) => {
        why = e
      })
      socket.on('close', () => {
        clearTimeout(timer)
        failed(why)
        reader.closed(why)
      })
      reader.write({
        cmd: 'connect',
        protocolId: 'MQTT',
        protocolVersion: reader.version,
        clientId: a.clientId,
        clean: !keepSession,
        keepalive: a.keepAliveS,
        ...(a.user !== null && { username: a.user }),
        ...(a.password !== null && { password: Buffer.from(a.password) }),
        ...(five && { properties: { sessionExpiryInterval: keepSession ? EXPIRY_S : 0, receiveMaximum: RECEIVE_MAXIMUM } }),
      })
    }).catch((e: unknown) => {
      reader.over = true
      socket.destroy()
      throw e
    })
    const reason = (five ? connack.reasonCode : connack.returnCode) ?? 128
    if (reason !== 0) {
      reader.close()
      throw connackFailure(reason)
    }
    reader.ping = setInterval(
      () => {
        if (Date.now() - reader.heard > a.keepAliveS * 1500) socket.destroy(Object.assign(new Error('silent'), { code: 'ETIMEDOUT' }))
        else reader.pingNow()
      },
      Math.min(a.keepAliveS * 500, 10_000),
    )
    return { reader, sessionPresent: connack.sessionPresent }
  }

  private write(packet: Packet): void {
    if (this.socket.writable) mqtt.writeToStream(packet, this.socket, { protocolVersion: this.version })
  }

  private pings = 0
  private pongs = 0

  /** Asks for an answer and returns the number under which `pong` will hear of it (packets are answered in order). */
  pingNow(): number {
    this.write({ cmd: 'pingreq' })
    return ++this.pings
  }

  acknowledge(messageId: number): void {
    this.write({ cmd: 'puback', messageId } as Packet)
  }

  private handle(p: Packet): void {
    switch (p.cmd) {
      case 'publish':
        return this.hooks.message(p)
      case 'pingresp':
        this.hooks.pong?.(++this.pongs)
        return
      case 'suback':
      case 'unsuback':
        this.waiting.get(p.messageId!)?.(p)
        this.waiting.delete(p.messageId!)
        return
      case 'disconnect':
        this.socket.destroy(p.reasonCode === 0x8e ? Object.assign(new Error('taken over'), { code: 'TAKEN' }) : undefined)
        return
      default:
    }
  }

  private request(make: (messageId: number) => Packet): Promise<Packet> {
    const id = this.nextId
    this.nextId = (this.nextId % 65_535) + 1
    return new Promise((done, failed) => {
      const timer = setTimeout(() => {
        this.waiting.delete(id)
        failed(Object.assign(new Error('no answer to a subscription'), { code: 'ETIMEDOUT' }))
      }, 10_000)
      this.waiting.set(id, (p) => {
        clearTimeout(timer)
        done(p)
      })
      this.write(make(id))
    })
  }

  /** Subscribes at QoS 1, without retained messages (MQTT 5 3.8.3.1; in 3.1.1 they come, marked); rejects when one filter is refused. */
  async subscribe(filters: readonly string[]): Promise<void> {
    if (filters.length === 0) return
    const suback = (await this.request((messageId) => ({
      cmd: 'subscribe',
      messageId,
      subscriptions: filters.map((topic) =>
        this.version === 5 ? { topic, qos: 1 as const, nl: false, rap: false, rh: 2 } : { topic, qos: 1 as const },
      ),
    }))) as ISubackPacket
    const refused = suback.granted.findIndex((g) => Number(g) >= 0x80)
    if (refused >= 0)
      throw new FailureError(
        {
          code: 'witness.refused',
          message: `The broker does not let the witness read ${filters[refused]}`,
          hint: 'Give its certificate or log-in the permission to subscribe there',
          where: 'witness',
        },
        502,
      )
  }

  async unsubscribe(filters: readonly string[]): Promise<void> {
    if (filters.length > 0) await this.request((messageId) => ({ cmd: 'unsubscribe', messageId, unsubscriptions: [...filters] }))
  }

  private closed(why: unknown): void {
    if (this.ping) clearInterval(this.ping)
    if (this.over) return
    this.over = true
    this.hooks.closed(why)
  }

  close(): void {
    this.over = true
    if (this.ping) clearInterval(this.ping)
    this.write((this.version === 5 ? { cmd: 'disconnect', reasonCode: 0 } : { cmd: 'disconnect' }) as Packet)
    this.socket.end()
    setTimeout(() => this.socket.destroy(), 500).unref()
  }
}
