/** As much of MQTT as a client reads, 3.1.1 and 5 (OASIS), octet by octet. Works on any Uint8Array. */
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

/** What the broker takes, as its CONNACK says (MQTT 5 3.2.2.3); what it does not say has the standard's default. */
export interface Connack {
  kind: 'connack'
  sessionPresent: boolean
  reason: number
  /** In words, when it gives any. */
  reasonString: string
  receiveMaximum: number
  maximumQos: 0 | 1 | 2
  retainAvailable: boolean
  /** Octets of a whole packet. */
  maximumPacketSize: number
  topicAliasMaximum: number
  /** The client id that the broker gave. */
  assignedId: string | null
  /** What the broker wants instead of what was asked for, s; null: nothing. */
  serverKeepAlive: number | null
  sessionExpiry: number | null
  wildcards: boolean
  sharedSubscriptions: boolean
  /** Another server to go to. */
  reference: string
}

export type Incoming =
  | Published
  | Connack
  | { kind: 'puback' | 'pubrec' | 'pubrel' | 'pubcomp'; packetId: number; reason: number; reasonString: string }
  | { kind: 'suback' | 'unsuback'; packetId: number; reasons: number[] }
  | { kind: 'pingresp' }
  | { kind: 'disconnect'; reason: number; reasonString: string; reference: string }
  | { kind: 'other'; type: number }

/** Packets larger than this are no honest ones: no reader takes more. */
export const PACKET_MAX = 64 << 20

const encoder = new TextEncoder()
const decoder = new TextDecoder()

/** Size of a property's value by its identifier (MQTT 5 2.2.2.2); -1 text or binary, -2 a pair of texts, -3 a variable number, 0 unknown. */
const propertySize = new Int8Array(64)
for (const id of [0x01, 0x17, 0x19, 0x24, 0x25, 0x28, 0x29, 0x2a]) propertySize[id] = 1
for (const id of [0x13, 0x21, 0x22, 0x23]) propertySize[id] = 2
for (const id of [0x02, 0x11, 0x18, 0x27]) propertySize[id] = 4
for (const id of [0x03, 0x08, 0x09, 0x12, 0x15, 0x16, 0x1a, 0x1c, 0x1f]) propertySize[id] = -1
propertySize[0x26] = -2
propertySize[0x0b] = -3

/** Splits a stream of octets into packets and reads them. */
export class WireReader {
  /** Octets of a packet that is not whole yet, and how many are wanted before it is worth looking again. */
  private rest: Uint8Array[] = []
  private restLength = 0
  private wanted = 2
  private readonly idName: Uint8Array
  private readonly topics = new Topics()

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
    if (this.restLength > 0) {
      this.rest.push(chunk)
      this.restLength += chunk.length
      if (this.restLength < this.wanted) return
      bytes = joined(this.rest, this.restLength)
      this.rest = []
      this.restLength = 0
    }
    let at = 0
    this.wanted = 2
    while (at + 1 < bytes.length) {
      let length = 0
      let i = at + 1
      let whole = false
      for (let shift = 0; i < bytes.length; shift += 7) {
        const b = bytes[i++]!
        length += (b & 0x7f) * 2 ** shift
        if ((b & 0x80) === 0) {
          whole = true
          break
        }
        if (shift === 21) throw new WireError('remaining length of more than four octets')
      }
      if (length > PACKET_MAX) throw new WireError(`packet of ${length} octets`)
      if (!whole || i + length > bytes.length) {
        this.wanted = whole ? i + length - at : bytes.length - at + 1
        break
      }
      this.packet(this.read(bytes[at]!, bytes, i, i + length))
      at = i + length
    }
    if (at === bytes.length) return
    this.rest = [bytes.subarray(at)]
    this.restLength = bytes.length - at
  }

  private read(head: number, b: Uint8Array, from: number, end: number): Incoming {
    switch (head >>> 4) {
      case 3:
        return this.publish(head, b, from, end)
      case 2:
        return this.connack(b, from, end)
      case 4:
      case 5:
      case 6:
      case 7: {
        need(from + 2, end)
        const reason = from + 2 < end ? b[from + 2]! : 0
        const reasonString = this.version === 5 && from + 3 < end ? properties(b, from + 3, end).text(0x1f) : ''
        return { kind: acknowledgements[(head >>> 4) - 4]!, packetId: u16(b, from), reason, reasonString }
      }
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
        return this.disconnect(b, from, end)
      default:
        return { kind: 'other', type: head >>> 4 }
    }
  }

  /** MQTT 5 3.2, 3.1.1 3.2. */
  private connack(b: Uint8Array, from: number, end: number): Connack {
    need(from + 2, end)
    const p = this.version === 5 && from + 2 < end ? properties(b, from + 2, end) : none
    return {
      kind: 'connack',
      sessionPresent: (b[from]! & 1) === 1,
      reason: b[from + 1]!,
      reasonString: p.text(0x1f),
      receiveMaximum: p.number(0x21) ?? 65_535,
      maximumQos: (p.number(0x24) ?? 2) as 0 | 1 | 2,
      retainAvailable: p.number(0x25) !== 0,
      maximumPacketSize: p.number(0x27) ?? 268_435_455,
      topicAliasMaximum: p.number(0x22) ?? 0,
      assignedId: p.text(0x12) || null,
      serverKeepAlive: p.number(0x13) ?? null,
      sessionExpiry: p.number(0x11) ?? null,
      wildcards: p.number(0x28) !== 0,
      sharedSubscriptions: this.version === 5 && p.number(0x2a) !== 0,
      reference: p.text(0x1c),
    }
  }

  private disconnect(b: Uint8Array, from: number, end: number): Incoming {
    const p = from + 1 < end ? properties(b, from + 1, end) : none
    return { kind: 'disconnect', reason: from < end ? b[from]! : 0, reasonString: p.text(0x1f), reference: p.text(0x1c) }
  }

  /** MQTT 5 3.3, 3.1.1 3.3. */
  private publish(head: number, b: Uint8Array, from: number, end: number): Published {
    const qos = ((head >>> 1) & 3) as 0 | 1 | 2
    if ((qos as number) === 3) throw new WireError('PUBLISH with both QoS bits set')
    need(from + 2, end)
    const topicEnd = from + 2 + u16(b, from)
    need(topicEnd, end)
    const topic = this.topics.read(b, from + 2, topicEnd)
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
    for (let at = from; at < end; ) {
      const property = b[at++]!
      const next = afterValue(b, property, at, end)
      if (property === 0x26 && found === null) {
        const nameEnd = at + 2 + u16(b, at)
        if (this.isId(b, at + 2, nameEnd)) found = text(b, nameEnd + 2, next)
      }
      at = next
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

const acknowledgements = ['puback', 'pubrec', 'pubrel', 'pubcomp'] as const

interface Found {
  number(id: number): number | undefined
  text(id: number): string
}
const none: Found = { number: () => undefined, text: () => '' }

/** Properties of a packet that seldom comes (MQTT 5 2.2.2); the last of each kind counts. */
function properties(b: Uint8Array, from: number, packetEnd: number): Found {
  const [start, length] = varint(b, from, packetEnd)
  const end = start + length
  need(end, packetEnd)
  const found = new Map<number, [number, number]>()
  for (let at = start; at < end; ) {
    const id = b[at++]!
    const first = at
    at = afterValue(b, id, at, end)
    found.set(id, [first, at])
  }
  return {
    number: (id) => {
      const place = found.get(id)
      return place && b.subarray(place[0], place[1]).reduce((n, o) => n * 256 + o, 0)
    },
    text: (id) => {
      const place = found.get(id)
      return place ? text(b, place[0] + 2, place[1]) : ''
    },
  }
}

/** Where the value of a property ends. */
function afterValue(b: Uint8Array, id: number, from: number, end: number): number {
  const size = propertySize[id] ?? 0
  let at = from
  if (size > 0) at += size
  else if (size === -3) at = varint(b, at, end)[0]
  else if (size === -1 || size === -2)
    for (let i = size; i < 0; i++) {
      need(at + 2, end)
      at += 2 + u16(b, at)
    }
  else throw new WireError(`unknown property ${id}`)
  need(at, end)
  return at
}

function joined(parts: readonly Uint8Array[], length: number): Uint8Array {
  const all = new Uint8Array(length)
  let at = 0
  for (const part of parts) {
    all.set(part, at)
    at += part.length
  }
  return all
}

function need(upTo: number, end: number): void {
  if (upTo > end) throw new WireError('packet cut short')
}

const u16 = (b: Uint8Array, at: number) => (b[at]! << 8) | b[at + 1]!

/** Short texts of plain ASCII, which topics and ids are, are put together here: faster than the decoder's set-up. */
function text(b: Uint8Array, from: number, end: number): string {
  const octets = b.subarray(from, end)
  if (octets.length > 64) return decoder.decode(octets)
  for (let i = 0; i < octets.length; i++) if (octets[i]! >= 0x80) return decoder.decode(octets)
  return String.fromCharCode.apply(null, octets as unknown as number[])
}

/** Topics come again and again: those seen lately are found by their octets, without making the text anew. */
class Topics {
  private readonly texts: (string | undefined)[] = new Array(TOPICS)

  read(b: Uint8Array, from: number, end: number): string {
    if (end - from > 255) return text(b, from, end)
    let hash = end - from
    for (let i = from; i < end; i++) hash = (Math.imul(hash, 31) + b[i]!) | 0
    const place = hash & (TOPICS - 1)
    const known = this.texts[place]
    if (known !== undefined && isText(known, b, from, end)) return known
    const made = text(b, from, end)
    this.texts[place] = made
    return made
  }
}
/** A power of two. */
const TOPICS = 4096

function isText(known: string, b: Uint8Array, from: number, end: number): boolean {
  if (known.length !== end - from) return false
  for (let i = from; i < end; i++) if (known.charCodeAt(i - from) !== b[i]) return false
  return true
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
