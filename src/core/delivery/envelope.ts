import type { Qos } from '~/contract/publication'

/** One message with all that is needed to send it and to account for it. */
export interface Envelope {
  /** Number of the pair of publication and destination. */
  delivery: number
  /** Counts up by one a message within its delivery, from 1. */
  seq: number
  topic: string
  /** Text when just made, octets when read back from the outbox. */
  payload: string | Uint8Array
  qos: Qos
  retain: boolean
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
  if (typeof id !== 'string' || !id.startsWith(`${installation}.`)) return null
  const m = /^(\d{1,9})\.(\d{1,15})$/.exec(id.slice(installation.length + 1))
  return m ? { delivery: Number(m[1]), seq: Number(m[2]) } : null
}
