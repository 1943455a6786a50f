// Packets as octets. What goes thousands of times a second is written by hand into one piece of memory, the rest by the library.
import mqtt, { type IPublishPacket, type Packet } from 'mqtt-packet'

const SLAB = 65_536
const answers: Record<string, number> = { puback: 0x40, pubrec: 0x50, pubrel: 0x62, pubcomp: 0x70 }

type Answer = { cmd: string; messageId: number; reasonCode?: number }

/** Octets for one socket; `take` hands out what was written since the last time. */
export class PacketWriter {
  private slab = Buffer.allocUnsafe(SLAB)
  private from = 0
  private at = 0
  version: 3 | 4 | 5 = 4

  write(packet: Packet): void {
    if (packet.cmd === 'publish') this.publish(packet)
    else if (packet.cmd in answers && !('properties' in packet)) this.answer(packet as Answer)
    else this.raw(mqtt.generate(packet, { protocolVersion: this.version }))
  }

  take(): Buffer {
    const out = this.slab.subarray(this.from, this.at)
    this.from = this.at
    return out
  }

  /** Makes room for `n` more. */
  private room(n: number): void {
    if (this.at + n <= this.slab.length) return
    const begun = this.slab.subarray(this.from, this.at)
    this.slab = Buffer.allocUnsafe(Math.max(SLAB, (begun.length + n) * 2))
    begun.copy(this.slab)
    this.from = 0
    this.at = begun.length
  }

  private raw(bytes: Buffer): void {
    this.room(bytes.length)
    bytes.copy(this.slab, this.at)
    this.at += bytes.length
  }

  private answer(p: Answer): void {
    this.room(5)
    const reason = this.version === 5 ? (p.reasonCode ?? 0) : 0
    this.slab[this.at++] = answers[p.cmd]!
    this.slab[this.at++] = reason === 0 ? 2 : 3
    this.number(p.messageId)
    if (reason !== 0) this.slab[this.at++] = reason
  }

  private number(n: number): void {
    this.slab[this.at++] = n >> 8
    this.slab[this.at++] = n & 255
  }

  private text(s: string): void {
    const written = this.slab.write(s, this.at + 2, 'utf8')
    this.number(written)
    this.at += written
  }

  private varint(n: number): void {
    while (n > 127) {
      this.slab[this.at++] = (n & 127) | 128
      n = Math.floor(n / 128)
    }
    this.slab[this.at++] = n
  }

  /** PUBLISH (3.3): all lengths are known before the first octet. */
  private publish(p: IPublishPacket): void {
    const payload = p.payload as Buffer
    const properties = this.version === 5 ? (p.properties ?? {}) : null
    if (properties && 'correlationData' in properties && properties.correlationData !== undefined) {
      this.raw(mqtt.generate(p, { protocolVersion: this.version }))
      return
    }
    const pairs = properties ? pairsOf(properties) : []
    const inner = properties ? lengthOf(properties, pairs) : 0
    const body = 2 + Buffer.byteLength(p.topic) + (p.qos > 0 ? 2 : 0) + (properties ? inner + octetsOf(inner) : 0) + payload.length
    this.room(body + 5)
    this.slab[this.at++] = 0x30 | (p.dup ? 8 : 0) | (p.qos << 1) | (p.retain ? 1 : 0)
    this.varint(body)
    this.text(p.topic)
    if (p.qos > 0) this.number(p.messageId!)
    if (properties) {
      this.varint(inner)
      this.properties(properties, pairs)
    }
    payload.copy(this.slab, this.at)
    this.at += payload.length
  }

  private properties(p: Properties, pairs: readonly [string, string][]): void {
    const { slab } = this
    if (p.payloadFormatIndicator !== undefined) {
      slab[this.at++] = 0x01
      slab[this.at++] = p.payloadFormatIndicator ? 1 : 0
    }
    if (p.messageExpiryInterval !== undefined) {
      slab[this.at++] = 0x02
      this.at = slab.writeUInt32BE(p.messageExpiryInterval, this.at)
    }
    if (p.contentType !== undefined) {
      slab[this.at++] = 0x03
      this.text(p.contentType)
    }
    if (p.responseTopic !== undefined) {
      slab[this.at++] = 0x08
      this.text(p.responseTopic)
    }
    for (const id of idsOf(p)) {
      slab[this.at++] = 0x0b
      this.varint(id)
    }
    for (const [name, value] of pairs) {
      slab[this.at++] = 0x26
      this.text(name)
      this.text(value)
    }
  }
}

type Properties = NonNullable<IPublishPacket['properties']>

const octetsOf = (n: number) => (n < 128 ? 1 : n < 16_384 ? 2 : n < 2_097_152 ? 3 : 4)

const idsOf = (p: Properties): number[] => {
  const ids = p.subscriptionIdentifier as number | number[] | undefined
  return ids === undefined ? [] : Array.isArray(ids) ? ids : [ids]
}

function pairsOf(p: Properties): [string, string][] {
  const out: [string, string][] = []
  for (const name in p.userProperties) {
    const value = p.userProperties[name]!
    if (Array.isArray(value)) for (const v of value) out.push([name, v])
    else out.push([name, value])
  }
  return out
}

function lengthOf(p: Properties, pairs: readonly [string, string][]): number {
  const text = (s: string) => 2 + Buffer.byteLength(s)
  let n = 0
  if (p.payloadFormatIndicator !== undefined) n += 2
  if (p.messageExpiryInterval !== undefined) n += 5
  if (p.contentType !== undefined) n += 1 + text(p.contentType)
  if (p.responseTopic !== undefined) n += 1 + text(p.responseTopic)
  for (const id of idsOf(p)) n += 1 + octetsOf(id)
  for (const [name, value] of pairs) n += 1 + text(name) + text(value)
  return n
}
