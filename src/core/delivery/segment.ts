import { assurances, type Envelope } from './envelope'
import { packProperties, unpackProperties } from './properties'

const VERSION = 4
const HEAD = 5
/** Octets before the texts of a message, by version: the first had no properties, the second no turns, the third a flag in place of a property. */
const FIXED_OF: Record<number, number> = { 1: 35, 2: 39, 3: 41, 4: 41 }
const FIXED = FIXED_OF[VERSION]!

/** Thrown when octets are no whole segment. */
export class SegmentError extends Error {}

/** Which numbers of which delivery a segment holds: `'3:10-19,7:4-4'`. */
export function rangesOf(messages: readonly Pick<Envelope, 'delivery' | 'seq'>[]): string {
  const runs: [number, number, number][] = []
  const last = new Map<number, [number, number, number]>()
  for (const { delivery, seq } of messages) {
    const run = last.get(delivery)
    if (run && run[2] === seq - 1) run[2] = seq
    else {
      const fresh: [number, number, number] = [delivery, seq, seq]
      last.set(delivery, fresh)
      runs.push(fresh)
    }
  }
  return runs.map(([d, a, b]) => `${d}:${a}-${b}`).join(',')
}

/** Reads what `rangesOf` wrote: delivery, first and last number; what cannot be read is left out. */
export function parseRanges(text: string): [delivery: number, first: number, last: number][] {
  return [...text.matchAll(/(\d+):(\d+)-(\d+)/g)].map((m) => [Number(m[1]), Number(m[2]), Number(m[3])])
}

/** The highest number of each delivery in some segments. */
export function highestOf(ranges: Iterable<string>): Map<number, number> {
  const highest = new Map<number, number>()
  for (const text of ranges) for (const [delivery, , last] of parseRanges(text)) highest.set(delivery, Math.max(last, highest.get(delivery) ?? 0))
  return highest
}

const encoder = new TextEncoder()
const decoder = new TextDecoder('utf-8', { fatal: true })

/**
 * Packs messages for one row of the outbox. Layout, little-endian: version u8, count u32, then a message: delivery u32,
 * seq f64, device time f64, produced time f64, assurance u8, topic length u16, payload
 * length u32, properties length u32, turn u16, topic, payload and properties octets. Version 1 has no properties, version 2 no
 * turn; up to version 3 bit 2 of the assurance says that the destination keeps it for who comes later. The whole numbers in f64 are exact up to 2^53. Payloads that are text become octets in the messages too: views into
 * what is returned.
 */
export function encodeSegment(messages: readonly Envelope[]): Uint8Array {
  let room = HEAD
  for (const m of messages) room += FIXED + m.topic.length * 3 + m.payload.length * (typeof m.payload === 'string' ? 3 : 1) + m.properties.length * 3
  const bytes = new Uint8Array(room)
  const view = new DataView(bytes.buffer)
  view.setUint8(0, VERSION)
  view.setUint32(1, messages.length, true)
  let at = HEAD
  for (const m of messages) {
    const head = at
    at += FIXED
    const topicLength = encoder.encodeInto(m.topic, bytes.subarray(at)).written
    if (topicLength > 0xffff) throw new SegmentError(`topic of ${topicLength} octets: 65535 are the most`)
    at += topicLength
    let payloadLength: number
    if (typeof m.payload === 'string') {
      payloadLength = encoder.encodeInto(m.payload, bytes.subarray(at)).written
      m.payload = bytes.subarray(at, at + payloadLength)
    } else {
      bytes.set(m.payload, at)
      payloadLength = m.payload.length
    }
    at += payloadLength
    let propertiesLength = 0
    if (m.properties !== '') {
      propertiesLength = encoder.encodeInto(m.properties, bytes.subarray(at)).written
      at += propertiesLength
    }
    view.setUint32(head, m.delivery, true)
    view.setFloat64(head + 4, m.seq, true)
    view.setFloat64(head + 12, m.deviceAt, true)
    view.setFloat64(head + 20, m.producedAt, true)
    view.setUint8(head + 28, assurances.indexOf(m.assurance))
    view.setUint16(head + 29, topicLength, true)
    view.setUint32(head + 31, payloadLength, true)
    view.setUint32(head + 35, propertiesLength, true)
    view.setUint16(head + 39, m.turn, true)
  }
  return bytes.subarray(0, at)
}

/** Reads a segment; payloads are views into `bytes`. `shift` is what lies between wall and monotonic clock, ms. */
export function decodeSegment(bytes: Uint8Array, shift = 0): Envelope[] {
  const version = bytes[0] ?? 0
  const fixed = FIXED_OF[version]
  if (bytes.length < HEAD || fixed === undefined) throw new SegmentError('not a segment of a known version')
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  const count = view.getUint32(1, true)
  const messages: Envelope[] = []
  let at = HEAD
  for (let i = 0; i < count; i++) {
    if (at + fixed > bytes.length) throw new SegmentError('segment cut short')
    const topicAt = at + fixed
    const payloadAt = topicAt + view.getUint16(at + 29, true)
    const propertiesAt = payloadAt + view.getUint32(at + 31, true)
    const end = propertiesAt + (version === 1 ? 0 : view.getUint32(at + 35, true))
    if (end > bytes.length) throw new SegmentError('segment cut short')
    const flags = view.getUint8(at + 28)
    const assurance = assurances[flags & 3]
    if (assurance === undefined) throw new SegmentError('a message of no known assurance')
    const properties = end > propertiesAt ? decoder.decode(bytes.subarray(propertiesAt, end)) : ''
    const producedAt = view.getFloat64(at + 20, true)
    messages.push({
      delivery: view.getUint32(at, true),
      seq: view.getFloat64(at + 4, true),
      deviceAt: view.getFloat64(at + 12, true),
      producedAt,
      turn: version < 3 ? 0 : view.getUint16(at + 39, true),
      madeMono: producedAt + shift,
      assurance,
      topic: decoder.decode(bytes.subarray(topicAt, payloadAt)),
      payload: bytes.subarray(payloadAt, propertiesAt),
      properties: (flags & 4) === 0 ? properties : packProperties({ ...unpackProperties(properties), kept: true }),
    })
    at = end
  }
  if (at !== bytes.length) throw new SegmentError('octets left over after the last message')
  return messages
}
