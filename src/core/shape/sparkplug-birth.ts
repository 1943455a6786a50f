// What belongs to a session of an edge node (Sparkplug 3.0 5): births, deaths, numbers; and the envelope of compressed payloads.
import type { PlanEquipment } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import type { Cell } from '../publication/cells/cell'
import { Writer } from './octets'
import { ambiguous, field, heads, metric, octets, plainMetric, text } from './sparkplug-metric'

type How = Settings<'sparkplug-b'>

const numbered = new Writer()
/**
 * The number within the session (6.4.5), which is known only when the message is sent: appended as a field of its own, since
 * the order of fields is free (Protocol Buffers encoding).
 */
export function withSeq(payload: Uint8Array, seq: number): Uint8Array {
  numbered.raw(payload)
  numbered.u8(0x18)
  numbered.varint(seq & 255)
  return numbered.take()
}

/** The payload as it was before `withSeq`. */
export function withoutSeq(payload: Uint8Array): Uint8Array {
  const n = payload.length
  if (n >= 2 && payload[n - 2] === 0x18 && payload[n - 1]! < 128) return payload.subarray(0, n - 2)
  if (n >= 3 && payload[n - 3] === 0x18 && payload[n - 2]! >= 128 && payload[n - 1]! < 2) return payload.subarray(0, n - 3)
  return payload
}

/** Death of the node (6.4.22): the will of the connection; `bdSeq` ties it to the birth that follows. */
export function nodeDeath(bdSeq: number, now: number): Uint8Array {
  return octets((w) => {
    w.u8(0x08)
    w.varint(now)
    field(w, 0x12, plainMetric('bdSeq', 4, bdSeq, now))
  })
}

/** Birth of the node (6.4.19), without its number in the session. */
export function nodeBirth(bdSeq: number, now: number, facts: Readonly<Record<string, string | number>> = {}): Uint8Array {
  return octets((w) => {
    w.u8(0x08)
    w.varint(now)
    field(w, 0x12, plainMetric('bdSeq', 4, bdSeq, now))
    field(w, 0x12, plainMetric('Node Control/Rebirth', 11, false, now))
    for (const [name, value] of Object.entries(facts)) field(w, 0x12, factMetric(name, value, now))
  })
}

/** Text as String, a whole number as Int64. */
const factMetric = (name: string, value: string | number, now: number) => plainMetric(name, typeof value === 'string' ? 12 : 4, value, now)

/** Data of the node itself (6.4.21), only what changed. Without its number in the session. */
export function nodeData(now: number, facts: Readonly<Record<string, string | number>>): Uint8Array {
  return octets((w) => {
    w.u8(0x08)
    w.varint(now)
    for (const [name, value] of Object.entries(facts)) field(w, 0x12, factMetric(name, value, now))
  })
}

/** Death of a device (6.4.23): its time and nothing else. Without its number in the session. */
export function deviceDeath(now: number): Uint8Array {
  return octets((w) => {
    w.u8(0x08)
    w.varint(now)
  })
}

/** Birth of a device (6.4.20) with the values of this moment: all metrics with name, alias and datatype. Without its number. */
export function deviceBirth(
  how: Pick<How, 'aliases' | 'bad'>,
  one: PlanEquipment,
  all: readonly PlanEquipment[],
): (cells: readonly Cell[], now: number) => Uint8Array {
  const aliased = how.aliases && !ambiguous(all)
  const own = heads(one, true, aliased, true)
  const facts = Object.entries(one.facts)
  return (cells, now) =>
    octets((w) => {
      w.u8(0x08)
      w.varint(now)
      own.forEach((head, i) => {
        metric(w, head, one.members[i]!.dataType, cells[i]!, now, how.bad === 'last-good')
      })
      for (const [name, value] of facts) field(w, 0x12, plainMetric(`Facts/${name}`, 12, String(value), now))
    })
}

/** A payload that holds another, compressed (6.4.17): `uuid` says so, the metric `algorithm` how. */
export function compressed(algorithm: 'gzip' | 'deflate', body: Uint8Array, now: number): Uint8Array {
  return octets((w) => {
    w.u8(0x08)
    w.varint(Math.round(now))
    field(w, 0x12, plainMetric('algorithm', 12, algorithm.toUpperCase(), Math.round(now)))
    field(w, 0x22, text('SPBV1.0_COMPRESSED'))
    field(w, 0x2a, body)
  })
}
