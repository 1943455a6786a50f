import type { Qos } from '~/contract/publication'
import type { Envelope } from './envelope'

const VERSION = 2
/** As it was before messages had properties: without their length. */
const FIRST = 1
const HEAD = 5
const FIXED = 4 + 8 + 8 + 8 + 1 + 2 + 4 + 4

/** Thrown when octets are no whole segment. */
export class SegmentError extends Error {}

const encoder = new TextEncoder()
const decoder = new TextDecoder('utf-8', { fatal: true })

/**
 * Packs messages for one row of the outbox. Layout, little-endian: version u8, count u32, then a message: delivery u32,
 * seq f64, device time f64, produced time f64, flags u8 (bits 0-1 QoS, bit 2 retain), topic length u16, payload
 * length u32, properties length u32, topic, payload and properties octets. Version 1 has no properties. The whole numbers in f64 are exact up to 2^53. Payloads that are text become
 * octets in the messages too: views into what is returned.
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
    if (topicLength > 0xffff) throw new SegmentError(`topic of ${topicLength} octets: MQTT allows 65535`)
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
    view.setUint8(head + 28, m.qos | (m.retain ? 4 : 0))
    view.setUint16(head + 29, topicLength, true)
    view.setUint32(head + 31, payloadLength, true)
    view.setUint32(head + 35, propertiesLength, true)
  }
  return bytes.subarray(0, at)
}

/** Reads a segment; payloads are views into `bytes`. */
export function decodeSegment(bytes: Uint8Array): Envelope[] {
  const version = bytes[0]
  if (bytes.length < HEAD || (version !== VERSION && version !== FIRST)) throw new SegmentError('not a segment of a known version')
  const fixed = version === FIRST ? FIXED - 4 : FIXED
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  const count = view.getUint32(1, true)
  const messages: Envelope[] = []
  let at = HEAD
  for (let i = 0; i < count; i++) {
    if (at + fixed > bytes.length) throw new SegmentError('segment cut short')
    const topicAt = at + fixed
    const payloadAt = topicAt + view.getUint16(at + 29, true)
    const propertiesAt = payloadAt + view.getUint32(at + 31, true)
    const end = propertiesAt + (version === FIRST ? 0 : view.getUint32(at + 35, true))
    if (end > bytes.length) throw new SegmentError('segment cut short')
    const flags = view.getUint8(at + 28)
    messages.push({
      delivery: view.getUint32(at, true),
      seq: view.getFloat64(at + 4, true),
      deviceAt: view.getFloat64(at + 12, true),
      producedAt: view.getFloat64(at + 20, true),
      qos: (flags & 3) as Qos,
      retain: (flags & 4) !== 0,
      topic: decoder.decode(bytes.subarray(topicAt, payloadAt)),
      payload: bytes.subarray(payloadAt, propertiesAt),
      properties: end > propertiesAt ? decoder.decode(bytes.subarray(propertiesAt, end)) : '',
    })
    at = end
  }
  if (at !== bytes.length) throw new SegmentError('octets left over after the last message')
  return messages
}
