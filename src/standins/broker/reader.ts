// Cuts a stream of octets into MQTT packets. What comes thousands of times a second is read by hand, the rest by the library.
import mqtt, { type IPublishPacket, type Packet, type UserProperties } from 'mqtt-packet'

const answers = { 4: 'puback', 5: 'pubrec', 6: 'pubrel', 7: 'pubcomp' } as const

export class PacketReader {
  private rest: Buffer | null = null
  /** The library reads this again for each packet: its layout depends on the version that CONNECT names. */
  private readonly parsing = { protocolVersion: 4 }
  private readonly library = mqtt.parser(this.parsing)
  private failed = false

  constructor(
    private readonly packet: (p: Packet) => void,
    private readonly malformed: () => void,
  ) {
    this.library.on('packet', packet)
    this.library.on('error', () => this.fail())
  }

  set version(version: 3 | 4 | 5) {
    this.parsing.protocolVersion = version
  }

  private fail(): void {
    if (this.failed) return
    this.failed = true
    this.malformed()
  }

  push(chunk: Buffer): void {
    let bytes = this.rest === null ? chunk : Buffer.concat([this.rest, chunk])
    this.rest = null
    while (!this.failed && bytes.length >= 2) {
      const size = sizeOf(bytes)
      if (size === -1) return this.fail()
      if (size === null || size.head + size.body > bytes.length) break
      const end = size.head + size.body
      this.one(bytes.subarray(0, end), size.head)
      bytes = bytes.subarray(end)
    }
    if (bytes.length > 0) this.rest = bytes
  }

  private one(frame: Buffer, head: number): void {
    const type = frame[0]! >> 4
    const swift = type === 3 ? readPublish(frame, head, this.parsing.protocolVersion === 5) : readAnswer(frame, head, type)
    if (swift) this.packet(swift)
    else this.library.parse(frame)
  }
}

/** Lengths of fixed header and rest (MQTT 5 2.1.4); null: not all there, -1: no length of at most four octets. */
function sizeOf(b: Buffer): { head: number; body: number } | null | -1 {
  let body = 0
  for (let i = 1; i < 5; i++) {
    const octet = b[i]
    if (octet === undefined) return null
    body += (octet & 127) * 128 ** (i - 1)
    if (octet < 128) return { head: i + 1, body }
  }
  return -1
}

/** PUBACK, PUBREC, PUBREL, PUBCOMP without properties, PINGREQ; null: something else. */
function readAnswer(b: Buffer, head: number, type: number): Packet | null {
  const body = b.length - head
  if (type === 12 && body === 0) return { cmd: 'pingreq' }
  if (type < 4 || type > 7 || body < 2 || body > 3 || (b[0]! & 15) !== (type === 6 ? 2 : 0)) return null
  return { cmd: answers[type as 4], messageId: b.readUInt16BE(head), ...(body === 3 && { reasonCode: b[head + 2]! }) } as Packet
}

/** A PUBLISH (3.3) with what senders put into it; null: the library shall judge. */
function readPublish(b: Buffer, head: number, five: boolean): IPublishPacket | null {
  const qos = (b[0]! >> 1) & 3
  if (qos === 3 || head + 2 > b.length) return null
  const topicEnd = head + 2 + b.readUInt16BE(head)
  let at = topicEnd + (qos > 0 ? 2 : 0)
  if (at > b.length) return null
  const topic = b.toString('utf8', head + 2, topicEnd)
  if (topic.includes('\ufffd') || topic.includes('\0')) return null
  const packet: IPublishPacket = {
    cmd: 'publish',
    topic,
    payload: b,
    qos: qos as 0 | 1 | 2,
    dup: (b[0]! & 8) !== 0,
    retain: (b[0]! & 1) !== 0,
    length: b.length - head,
  }
  if (qos > 0) packet.messageId = b.readUInt16BE(topicEnd)
  if (five) {
    const length = b[at]
    // Longer ones are rare.
    if (length === undefined || length > 127 || at + 1 + length > b.length) return null
    const properties = readProperties(b, at + 1, at + 1 + length)
    if (!properties) return null
    packet.properties = properties
    at += 1 + length
  }
  packet.payload = b.subarray(at)
  return packet
}

type Properties = NonNullable<IPublishPacket['properties']>

function readProperties(b: Buffer, from: number, end: number): Properties | null {
  const out: Properties = {}
  let at = from
  const text = (): string | null => {
    if (at + 2 > end) return null
    const start = at + 2
    at = start + b.readUInt16BE(at)
    return at > end ? null : b.toString('utf8', start, at)
  }
  while (at < end) {
    const id = b[at++]
    if (id === 0x01 && at < end) out.payloadFormatIndicator = b[at++] === 1
    else if (id === 0x02 && at + 4 <= end) {
      out.messageExpiryInterval = b.readUInt32BE(at)
      at += 4
    } else if (id === 0x03 || id === 0x08) {
      const value = text()
      if (value === null) return null
      if (id === 0x03) out.contentType = value
      else out.responseTopic = value
    } else if (id === 0x26) {
      const name = text()
      const value = name === null ? null : text()
      if (name === null || value === null) return null
      addUserProperty(out, name, value)
    } else return null
  }
  return at === end ? out : null
}

function addUserProperty(out: Properties, name: string, value: string): void {
  out.userProperties ??= Object.create(null) as UserProperties
  const there = out.userProperties[name]
  out.userProperties[name] = there === undefined ? value : Array.isArray(there) ? [...there, value] : [there, value]
}
