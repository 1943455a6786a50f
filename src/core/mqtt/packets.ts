import { PACKET_MAX, type Version, WireError } from './wire'

const encoder = new TextEncoder()

class Writer {
  private parts: number[] = []

  u8(n: number): this {
    this.parts.push(n & 0xff)
    return this
  }
  u16(n: number): this {
    return this.u8(n >>> 8).u8(n)
  }
  u32(n: number): this {
    return this.u16(n >>> 16).u16(n & 0xffff)
  }
  octets(bytes: Uint8Array): this {
    for (const b of bytes) this.parts.push(b)
    return this
  }
  text(s: string): this {
    return this.binary(encoder.encode(s))
  }
  binary(bytes: Uint8Array): this {
    if (bytes.length > 0xffff) throw new WireError('text of more than 65535 octets')
    return this.u16(bytes.length).octets(bytes)
  }
  varint(n: number): this {
    let left = n
    do {
      const low = left % 128
      left = Math.floor(left / 128)
      this.u8(left > 0 ? low | 0x80 : low)
    } while (left > 0)
    return this
  }
  packet(head: number): Uint8Array {
    const body = this.parts
    this.parts = []
    this.u8(head).varint(body.length)
    return Uint8Array.from([...this.parts, ...body])
  }
}

export interface ConnectOptions {
  clientId: string
  clean: boolean
  keepAliveS: number
  user: string | null
  password: string | null
  /** MQTT 5 only: seconds that the session outlives its connection, and deliveries that may be open at once. */
  expiryS: number
  receiveMaximum: number
  /** MQTT 5 only: octets of a packet that is taken. */
  packetMax: number
  will?: Will
}

/** What the broker says when the client is gone without a word; `delayS` in MQTT 5 only (3.1.3.2.2). */
export interface Will {
  topic: string
  payload: Uint8Array
  qos: 0 | 1 | 2
  retain: boolean
  delayS?: number
}

/** MQTT 5 3.1, 3.1.1 3.1. */
export function connectPacket(version: Version, o: ConnectOptions): Uint8Array {
  const { will } = o
  const willFlags = will ? 4 | (will.qos << 3) | (will.retain ? 0x20 : 0) : 0
  const flags = willFlags | (o.clean ? 2 : 0) | (o.user !== null ? 0x80 : 0) | (o.password !== null ? 0x40 : 0)
  const w = new Writer().text('MQTT').u8(version).u8(flags).u16(o.keepAliveS)
  if (version === 5) w.varint(13).u8(0x11).u32(o.expiryS).u8(0x21).u16(o.receiveMaximum).u8(0x27).u32(Math.min(o.packetMax, PACKET_MAX))
  w.text(o.clientId)
  if (will) {
    if (version === 5 && will.delayS) w.varint(5).u8(0x18).u32(will.delayS)
    else if (version === 5) w.varint(0)
    w.text(will.topic).binary(will.payload)
  }
  if (o.user !== null) w.text(o.user)
  if (o.password !== null) w.text(o.password)
  return w.packet(0x10)
}

/** At QoS 1; in MQTT 5, unless `retained`, without what was retained before (3.8.3.1: Retain Handling 2). */
export function subscribePacket(version: Version, packetId: number, filters: readonly string[], retained = false): Uint8Array {
  const w = new Writer().u16(packetId)
  if (version === 5) w.varint(0)
  for (const f of filters) w.text(f).u8(version === 5 && !retained ? 0x21 : 0x01)
  return w.packet(0x82)
}

export function unsubscribePacket(version: Version, packetId: number, filters: readonly string[]): Uint8Array {
  const w = new Writer().u16(packetId)
  if (version === 5) w.varint(0)
  for (const f of filters) w.text(f)
  return w.packet(0xa2)
}

/** One PUBACK after the other (3.4); without a reason code that is success in both versions. */
export function pubackPackets(packetIds: readonly number[]): Uint8Array {
  const bytes = new Uint8Array(packetIds.length * 4)
  packetIds.forEach((id, i) => {
    bytes[i * 4] = 0x40
    bytes[i * 4 + 1] = 2
    bytes[i * 4 + 2] = id >>> 8
    bytes[i * 4 + 3] = id
  })
  return bytes
}

/** PUBREL (3.6). */
export function pubrelPacket(packetId: number): Uint8Array {
  return Uint8Array.of(0x62, 2, packetId >>> 8, packetId & 0xff)
}

export const pingPacket = Uint8Array.of(0xc0, 0)
export const disconnectPacket = Uint8Array.of(0xe0, 0)
