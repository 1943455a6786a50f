/**
 * As much of MQTT as a reading client needs, 3.1.1 and 5 (OASIS), octet by octet: written anew, so that what proves a
 * delivery shares no code with what makes it. Works on any Uint8Array.
 */
export type Version = 4 | 5

/** Octets that are no MQTT. */
export class WireError extends Error {}

export interface Published {
  kind: 'publish'
  topic: string
  payload: Uint8Array
  qos: 0 | 1 | 2
  dup: boolean
  retain: boolean
  /** 0 at QoS 0. */
  packetId: number
  /** Value of the user property that was asked for; null: there is none. */
  id: string | null
}

export type Incoming =
  | Published
  | { kind: 'connack'; sessionPresent: boolean; reason: number }
  | { kind: 'suback' | 'unsuback'; packetId: number; reasons: number[] }
  | { kind: 'pingresp' }
  | { kind: 'disconnect'; reason: number }
  | { kind: 'other'; type: number }

const encoder = new TextEncoder()
const decoder = new TextDecoder()

/** Size of a property's value by its identifier (MQTT 5 2.2.2.2); -1 text or binary, -2 a pair of texts, -3 a variable number. */
const propertySize = new Int8Array(64)
for (const id of [0x01, 0x17, 0x19, 0x24, 0x25, 0x28, 0x29, 0x2a]) propertySize[id] = 1
for (const id of [0x13, 0x21, 0x22, 0x23]) propertySize[id] = 2
for (const id of [0x02, 0x11, 0x18, 0x27]) propertySize[id] = 4
for (const id of [0x03, 0x08, 0x09, 0x12, 0x15, 0x16, 0x1a, 0x1c, 0x1f]) propertySize[id] = -1
propertySize[0x26] = -2
propertySize[0x0b] = -3

/** Splits a stream of octets into packets and reads them. */
export class WireReader {
  private rest: Uint8Array | null = null
  private readonly idName: Uint8Array

  constructor(
    private readonly version: Version,
    /** Name of the user property to look for. */
    idName: string,
    private readonly packet: (p: Incoming) => void,
  ) {
    this.idName = encoder.encode(idName)
  }

  /** Takes the next octets; calls `packet` for each packet that is whole. Payloads are views into `chunk`. */
  push(chunk: Uint8Array): void {
    let bytes = chunk
    if (this.rest) {
      bytes = new Uint8Array(this.rest.length + chunk.length)
      bytes.set(this.rest)
      bytes.set(chunk, this.rest.length)
      this.rest = null
    }
    let at = 0
    for (;;) {
      let length = 0
      let i = at + 1
      let shift = 0
      let whole = false
      for (; i < bytes.length; shift += 7) {
        const b = bytes[i++]!
        length += (b & 0x7f) * 2 ** shift
        if ((b & 0x80) === 0) {
          whole = true
          break
        }
        if (shift === 21) throw new WireError('remaining length of more than four octets')
      }
      if (!whole || i + length > bytes.length) break
      this.packet(this.read(bytes[at]!, bytes, i, i + length))
      at = i + length
    }
    if (at < bytes.length) this.rest = bytes.subarray(at)
  }

  private read(head: number, b: Uint8Array, from: number, end: number): Incoming {
    switch (head >>> 4) {
      case 3:
        return this.publish(head, b, from, end)
      case 2:
        need(from + 2, end)
        return { kind: 'connack', sessionPresent: (b[from]! & 1) === 1, reason: b[from + 1]! }
      case 9:
      case 11: {
        need(from + 2, end)
        const packetId = u16(b, from)
        const [start, length] = this.version === 5 ? varint(b, from + 2, end) : [from + 2, 0]
        need(start + length, end)
        const reasons = Array.from(b.subarray(start + length, end))
        return { kind: head >>> 4 === 9 ? 'suback' : 'unsuback', packetId, reasons }
      }
      case 13:
        return { kind: 'pingresp' }
      case 14:
        return { kind: 'disconnect', reason: from < end ? b[from]! : 0 }
      default:
        return { kind: 'other', type: head >>> 4 }
    }
  }

  /** MQTT 5 3.3, 3.1.1 3.3. */
  private publish(head: number, b: Uint8Array, from: number, end: number): Published {
    const qos = ((head >>> 1) & 3) as 0 | 1 | 2
    if ((qos as number) === 3) throw new WireError('PUBLISH with both QoS bits set')
    need(from + 2, end)
    const topicEnd = from + 2 + u16(b, from)
    need(topicEnd, end)
    const topic = text(b, from + 2, topicEnd)
    let at = topicEnd
    let packetId = 0
    if (qos > 0) {
      need(at + 2, end)
      packetId = u16(b, at)
      at += 2
    }
    let id: string | null = null
    if (this.version === 5) {
      const [start, length] = varint(b, at, end)
      need(start + length, end)
      id = this.findId(b, start, start + length)
      at = start + length
    }
    return { kind: 'publish', topic, payload: b.subarray(at, end), qos, dup: (head & 8) !== 0, retain: (head & 1) !== 0, packetId, id }
  }

  private findId(b: Uint8Array, from: number, end: number): string | null {
    let found: string | null = null
    let at = from
    while (at < end) {
      const property = b[at++]!
      const size = propertySize[property] ?? 0
      if (size > 0) {
        at += size
        need(at, end)
      } else if (size === -1) {
        need(at + 2, end)
        at += 2 + u16(b, at)
        need(at, end)
      } else if (size === -3) {
        const [next] = varint(b, at, end)
        at = next
      } else if (size === -2) {
        need(at + 2, end)
        const nameEnd = at + 2 + u16(b, at)
        need(nameEnd + 2, end)
        const valueEnd = nameEnd + 2 + u16(b, nameEnd)
        need(valueEnd, end)
        if (found === null && this.isId(b, at + 2, nameEnd)) found = text(b, nameEnd + 2, valueEnd)
        at = valueEnd
      } else throw new WireError(`unknown property ${property}`)
    }
    return found
  }

  private isId(b: Uint8Array, from: number, end: number): boolean {
    const name = this.idName
    if (end - from !== name.length) return false
    for (let i = 0; i < name.length; i++) if (b[from + i] !== name[i]) return false
    return true
  }
}

function need(upTo: number, end: number): void {
  if (upTo > end) throw new WireError('packet cut short')
}

const u16 = (b: Uint8Array, at: number) => (b[at]! << 8) | b[at + 1]!

/** Short texts of plain ASCII, which topics and ids are, are put together here: faster than the decoder's set-up. */
function text(b: Uint8Array, from: number, end: number): string {
  if (end - from > 64) return decoder.decode(b.subarray(from, end))
  let s = ''
  for (let i = from; i < end; i++) {
    const c = b[i]!
    if (c >= 0x80) return decoder.decode(b.subarray(from, end))
    s += String.fromCharCode(c)
  }
  return s
}

/** Where it ends, and its value (MQTT 5 1.5.5). */
function varint(b: Uint8Array, from: number, end: number): [number, number] {
  let value = 0
  for (let i = from, shift = 0; i < end && shift <= 21; shift += 7) {
    const o = b[i++]!
    value += (o & 0x7f) * 2 ** shift
    if ((o & 0x80) === 0) return [i, value]
  }
  throw new WireError('variable number cut short')
}

// ---- what a reading client says

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
    const bytes = encoder.encode(s)
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
}

/** MQTT 5 3.1, 3.1.1 3.1. */
export function connectPacket(version: Version, o: ConnectOptions): Uint8Array {
  const flags = (o.clean ? 2 : 0) | (o.user !== null ? 0x80 : 0) | (o.password !== null ? 0x40 : 0)
  const w = new Writer().text('MQTT').u8(version).u8(flags).u16(o.keepAliveS)
  if (version === 5) w.varint(8).u8(0x11).u32(o.expiryS).u8(0x21).u16(o.receiveMaximum)
  w.text(o.clientId)
  if (o.user !== null) w.text(o.user)
  if (o.password !== null) w.text(o.password)
  return w.packet(0x10)
}

/** At QoS 1; in MQTT 5 without what was retained before (3.8.3.1: Retain Handling 2). */
export function subscribePacket(version: Version, packetId: number, filters: readonly string[]): Uint8Array {
  const w = new Writer().u16(packetId)
  if (version === 5) w.varint(0)
  for (const f of filters) w.text(f).u8(version === 5 ? 0x21 : 0x01)
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

export const pingPacket = Uint8Array.of(0xc0, 0)
export const disconnectPacket = Uint8Array.of(0xe0, 0)
