import { type Properties, unpackProperties } from '../delivery/properties'
import type { Version } from './wire'

const encoder = new TextEncoder()
/** Octets of the first piece, and of the largest that is begun without need. */
const FIRST_ROOM = 2 * 1024
const MOST_ROOM = 64 * 1024
/** Most octets that stand before topic, properties and payload: head, length, two lengths and an identifier, length of properties. */
const HEAD_MAX = 1 + 4 + 2 + 2 + 4

/** A message as it is to be framed. */
export interface Publishing {
  topic: string
  payload: Uint8Array
  qos: 0 | 1 | 2
  retain: boolean
  dup: boolean
  /** Not 0 at QoS 1 and 2. */
  packetId: number
  /** As `packProperties` gives it; only used by version 5. Null: none. */
  properties: string | null
  /** Value of the user property that carries the message id. */
  id: string
  /** s left of the message's life; null: for ever. */
  expiryS: number | null
}

/** A message of its own, outside the outbox: without properties, id or end of life. */
export function plainMessage(topic: string, payload: Uint8Array, qos: 0 | 1 = 0, packetId = 0): Publishing {
  return { topic, payload, qos, retain: false, dup: false, packetId, properties: null, id: '', expiryS: null }
}

/** Properties that are the same for many messages, made once: packed text to octets (MQTT 5 3.3.2.3). */
const made = new Map<string, Uint8Array>()
const MADE_MAX = 2000

const nothing = new Uint8Array()

function fixedProperties(packed: string | null): Uint8Array {
  if (packed === null) return nothing
  let octets = made.get(packed)
  if (octets) return octets
  const p: Properties = unpackProperties(packed)
  const parts: number[] = [0x01, p.binary ? 0 : 1]
  const text = (s: string) => {
    const bytes = encoder.encode(s)
    parts.push(bytes.length >>> 8, bytes.length & 0xff, ...bytes)
  }
  if (p.contentType !== '') {
    parts.push(0x03)
    text(p.contentType)
  }
  if (p.responseTopic !== '') {
    parts.push(0x08)
    text(p.responseTopic)
  }
  for (const [name, value] of p.headers) {
    parts.push(0x26)
    text(name)
    text(value)
  }
  octets = Uint8Array.from(parts)
  if (made.size >= MADE_MAX) made.clear()
  made.set(packed, octets)
  return octets
}

/** Octets of a topic alias among the properties. */
const ALIAS_SIZE = 3
const noAlias = { alias: 0, known: false }

const varintSize = (n: number) => (n < 128 ? 1 : n < 16_384 ? 2 : n < 2_097_152 ? 3 : 4)

/**
 * Frames messages one behind the other into one piece of memory, so that all of one turn go out together. Not a packet is
 * copied again; `take` hands the piece over and begins another.
 */
export class Framer {
  private bytes = new Uint8Array(FIRST_ROOM)
  private at = 0
  private readonly idName: Uint8Array
  /** Topics that the other side knows by number (MQTT 5 3.3.2.3.4), and how many it takes. */
  private readonly aliases = new Map<string, number>()
  private aliasMost = 0

  constructor(
    private readonly version: Version,
    idName: string,
  ) {
    this.idName = encoder.encode(idName)
  }

  get length(): number {
    return this.at
  }

  /** From now on so many topics go by number from their second message on. */
  allowAliases(most: number): void {
    this.aliasMost = this.version === 5 ? most : 0
  }

  /** Its number, where it has one or gets one now. */
  private aliasOf(topic: string): { alias: number; known: boolean } {
    if (this.aliasMost === 0) return noAlias
    const alias = this.aliases.get(topic)
    if (alias !== undefined) return { alias, known: true }
    if (this.aliases.size >= this.aliasMost) return noAlias
    this.aliases.set(topic, this.aliases.size + 1)
    return { alias: this.aliases.size, known: false }
  }

  private room(more: number): void {
    if (this.at + more <= this.bytes.length) return
    const larger = new Uint8Array(Math.max(this.bytes.length * 2, this.at + more))
    larger.set(this.bytes.subarray(0, this.at))
    this.bytes = larger
  }

  /** Appends octets that are whole packets. */
  append(packets: Uint8Array): void {
    this.room(packets.length)
    this.bytes.set(packets, this.at)
    this.at += packets.length
  }

  take(): Uint8Array {
    const out = this.bytes.subarray(0, this.at)
    // As much room as was needed now, for what comes next.
    this.bytes = new Uint8Array(Math.min(MOST_ROOM, Math.max(FIRST_ROOM, this.at * 2)))
    this.at = 0
    return out
  }

  /** Octets that the packet would have, at most. */
  sizeOf(p: Publishing): number {
    const beside = this.version === 5 ? fixedProperties(p.properties).length + 5 + this.idName.length + p.id.length + 5 + ALIAS_SIZE : 0
    return HEAD_MAX + encoder.encode(p.topic).length + beside + p.payload.length
  }

  /** PUBLISH: MQTT 5 3.3, 3.1.1 3.3. */
  publish(p: Publishing): void {
    const fixed = this.version === 5 ? fixedProperties(p.properties) : null
    const idSize = p.id === '' ? 0 : 5 + this.idName.length + p.id.length
    const { alias, known } = this.aliasOf(p.topic)
    const propertyLength = fixed ? fixed.length + (p.expiryS === null ? 0 : 5) + idSize + (alias > 0 ? ALIAS_SIZE : 0) : 0
    this.room(HEAD_MAX + p.topic.length * 3 + propertyLength + p.payload.length)
    const { bytes } = this
    // The topic first, in its place behind the longest head: what stands before it is then known.
    const topicAt = this.at + 7
    const topicLength = known ? 0 : encoder.encodeInto(p.topic, bytes.subarray(topicAt)).written
    const rest = 2 + topicLength + (p.qos > 0 ? 2 : 0) + (fixed ? varintSize(propertyLength) + propertyLength : 0) + p.payload.length
    let at = this.at
    bytes[at++] = 0x30 | (p.dup ? 8 : 0) | (p.qos << 1) | (p.retain ? 1 : 0)
    at = varint(bytes, at, rest)
    bytes[at++] = topicLength >>> 8
    bytes[at++] = topicLength & 0xff
    bytes.copyWithin(at, topicAt, topicAt + topicLength)
    at += topicLength
    if (p.qos > 0) {
      bytes[at++] = p.packetId >>> 8
      bytes[at++] = p.packetId & 0xff
    }
    if (fixed) {
      at = varint(bytes, at, propertyLength)
      bytes.set(fixed, at)
      at += fixed.length
      if (p.expiryS !== null) {
        bytes[at++] = 0x02
        for (let shift = 24; shift >= 0; shift -= 8) bytes[at++] = (p.expiryS >>> shift) & 0xff
      }
      if (alias > 0) {
        bytes[at++] = 0x23
        bytes[at++] = alias >>> 8
        bytes[at++] = alias & 0xff
      }
      if (p.id !== '') at = this.writeId(at, p.id)
    }
    bytes.set(p.payload, at)
    this.at = at + p.payload.length
  }

  /** The user property with the message id, which is plain ASCII (MQTT 5 3.3.2.3.7). */
  private writeId(from: number, id: string): number {
    const { bytes, idName } = this
    let at = from
    bytes[at++] = 0x26
    bytes[at++] = 0
    bytes[at++] = idName.length
    bytes.set(idName, at)
    at += idName.length
    bytes[at++] = id.length >>> 8
    bytes[at++] = id.length & 0xff
    for (let i = 0; i < id.length; i++) bytes[at++] = id.charCodeAt(i)
    return at
  }
}

function varint(bytes: Uint8Array, from: number, n: number): number {
  let at = from
  let left = n
  do {
    const low = left & 0x7f
    left >>>= 7
    bytes[at++] = left > 0 ? low | 0x80 : low
  } while (left > 0)
  return at
}
