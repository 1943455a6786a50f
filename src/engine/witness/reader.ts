import type { Socket } from 'node:net'
import { FailureError } from '~/contract/failure'
import { ID_PROPERTY } from '~/core/delivery/envelope'
import {
  connectPacket,
  disconnectPacket,
  type Incoming,
  type Published,
  pingPacket,
  pubackPackets,
  subscribePacket,
  unsubscribePacket,
  type Version,
  WireReader,
} from '~/core/delivery/mqtt-wire'
import { connackFailure, type MqttAccess, openSocket } from '../net/mqtt-access'

export interface ReaderHooks {
  /** Called for each message; one of QoS 1 is to be acknowledged, whenever the caller is ready. */
  message(packet: Published): void
  /** The broker took us in, before its first message; `sessionPresent` tells whether it remembers us. */
  greeted?(reader: MqttReader, sessionPresent: boolean): void
  /** The broker answered the ping of this number: it has all that was written before it. */
  pong?(number: number): void
  closed(why: unknown): void
}

const EXPIRY_S = 7 * 86_400
const RECEIVE_MAXIMUM = 20_000

/**
 * A reading MQTT client of its own (5 and 3.1.1), sharing no code with the one that sends, not even the reading of octets.
 * It keeps its session at the broker, and acknowledges a message only when told to, so that what it saw and did not keep
 * is delivered again.
 */
export class MqttReader {
  private nextId = 1
  private readonly waiting = new Map<number, (reasons: number[]) => void>()
  private ping: NodeJS.Timeout | null = null
  private heard = Date.now()
  private over = false
  private pings = 0
  private pongs = 0
  private acks: number[] = []

  private constructor(
    private readonly socket: Socket,
    private readonly hooks: ReaderHooks,
    private readonly version: Version,
  ) {}

  /** Connects; rejects with a FailureError when the broker says no. `sessionPresent` tells whether it remembers us. */
  static async connect(a: MqttAccess, hooks: ReaderHooks, keepSession = true): Promise<{ reader: MqttReader; sessionPresent: boolean }> {
    const socket = await openSocket(a)
    const version = a.protocol === '5' ? 5 : 4
    const reader = new MqttReader(socket, hooks, version)
    const connack = await new Promise<{ sessionPresent: boolean; reason: number }>((done, failed) => {
      const timer = setTimeout(() => failed(Object.assign(new Error('no CONNACK'), { code: 'ETIMEDOUT' })), 10_000)
      let greeted = false
      const wire = new WireReader(version, ID_PROPERTY, (p) => {
        if (greeted) return reader.handle(p)
        clearTimeout(timer)
        if (p.kind !== 'connack') return failed(new Error(`expected CONNACK, got ${p.kind}`))
        greeted = true
        if (p.reason === 0) hooks.greeted?.(reader, p.sessionPresent)
        done(p)
      })
      socket.on('data', (chunk: Buffer) => {
        reader.heard = Date.now()
        try {
          wire.push(chunk)
        } catch (e) {
          failed(e)
          socket.destroy(e as Error)
        }
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
      const { clientId, keepAliveS, user, password } = a
      const expiryS = keepSession ? EXPIRY_S : 0
      reader.write(connectPacket(version, { clientId, clean: !keepSession, keepAliveS, user, password, expiryS, receiveMaximum: RECEIVE_MAXIMUM }))
    }).catch((e: unknown) => {
      reader.over = true
      socket.destroy()
      throw e
    })
    if (connack.reason !== 0) {
      reader.close()
      throw connackFailure(connack.reason)
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

  private write(bytes: Uint8Array): void {
    if (this.socket.writable) this.socket.write(bytes)
  }

  /** Asks for an answer and returns the number under which `pong` will hear of it (packets are answered in order). */
  pingNow(): number {
    this.sendAcks()
    this.write(pingPacket)
    return ++this.pings
  }

  /** Acknowledges a message; all of one turn go out together. */
  acknowledge(packetId: number): void {
    if (this.acks.push(packetId) === 1) process.nextTick(() => this.sendAcks())
  }

  private sendAcks(): void {
    if (this.acks.length === 0) return
    this.write(pubackPackets(this.acks))
    this.acks = []
  }

  private handle(p: Incoming): void {
    switch (p.kind) {
      case 'publish':
        return this.hooks.message(p)
      case 'pingresp':
        return this.hooks.pong?.(++this.pongs)
      case 'suback':
      case 'unsuback':
        this.waiting.get(p.packetId)?.(p.reasons)
        this.waiting.delete(p.packetId)
        return
      case 'disconnect':
        this.socket.destroy(p.reason === 0x8e ? Object.assign(new Error('taken over'), { code: 'TAKEN' }) : undefined)
        return
      default:
    }
  }

  private request(make: (packetId: number) => Uint8Array): Promise<number[]> {
    const id = this.nextId
    this.nextId = (this.nextId % 65_535) + 1
    return new Promise((done, failed) => {
      const timer = setTimeout(() => {
        this.waiting.delete(id)
        failed(Object.assign(new Error('no answer to a subscription'), { code: 'ETIMEDOUT' }))
      }, 10_000)
      this.waiting.set(id, (reasons) => {
        clearTimeout(timer)
        done(reasons)
      })
      this.write(make(id))
    })
  }

  /** Subscribes at QoS 1, without retained messages (MQTT 5 3.8.3.1; in 3.1.1 they come, marked); rejects when one filter is refused. */
  async subscribe(filters: readonly string[]): Promise<void> {
    if (filters.length === 0) return
    const granted = await this.request((id) => subscribePacket(this.version, id, filters))
    const refused = granted.findIndex((g) => g >= 0x80)
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
    if (filters.length > 0) await this.request((id) => unsubscribePacket(this.version, id, filters))
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
    this.sendAcks()
    this.write(disconnectPacket)
    this.socket.end()
    setTimeout(() => this.socket.destroy(), 500).unref()
  }
}
