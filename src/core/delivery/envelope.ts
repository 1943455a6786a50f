/**
 * What a destination is asked to do with a message: *sent* goes out once, and nobody says that it arrived; *acknowledged* goes out
 * until the destination has it, and may arrive twice; *once* is passed on no second time by a destination that has it.
 */
export type Assurance = 'sent' | 'acknowledged' | 'once'

/** By the number under which they are stored. */
export const assurances: readonly Assurance[] = ['sent', 'acknowledged', 'once']

/** One message with all that is needed to send it and to account for it. */
export interface Envelope {
  /** Number of the pair of publication and destination. */
  delivery: number
  /** Counts up by one a message within its delivery, from 1. */
  seq: number
  topic: string
  /** Text when just made, octets when read back from the outbox. */
  payload: string | Uint8Array
  assurance: Assurance
  /** What travels beside the payload, as `packProperties` gives it; empty: JSON in UTF-8 and nothing else. */
  properties: string
  /** When the device says the value was so, epoch ms. */
  deviceAt: number
  /** When the engine made the message, epoch ms. */
  producedAt: number
  /** How often the wall clock had gone back by then; see `sliceStart`. */
  turn: number
  /** The same moment by the engine's monotonic clock; of what an earlier run made as near as can be told. Not stored. */
  madeMono: number
}

/** Name of the MQTT 5 user property (3.3.2.3.7) that carries the message id. */
export const ID_PROPERTY = 'embrik-id'

/** `'7f3a9c21.3.10442'`: installation, delivery, sequence number. */
export function messageId(installation: string, delivery: number, seq: number): string {
  return `${installation}.${delivery}.${seq}`
}

/** Reads a message id of this installation; null for anybody else's or none. */
export function parseMessageId(installation: string, id: unknown): { delivery: number; seq: number } | null {
  if (typeof id !== 'string' || !id.startsWith(installation) || id.charCodeAt(installation.length) !== DOT) return null
  const from = installation.length + 1
  const dot = id.indexOf('.', from)
  const delivery = digits(id, from, dot, 9)
  const seq = digits(id, dot + 1, id.length, 15)
  return dot < 0 || delivery === null || seq === null ? null : { delivery, seq }
}

const DOT = 46

/** One to `most` digits and nothing else; by hand, since every message that comes is read so. */
function digits(text: string, from: number, end: number, most: number): number | null {
  if (end <= from || end - from > most) return null
  let n = 0
  for (let i = from; i < end; i++) {
    const d = text.charCodeAt(i) - 48
    if (d < 0 || d > 9) return null
    n = n * 10 + d
  }
  return n
}
