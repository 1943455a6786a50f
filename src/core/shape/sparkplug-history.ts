// What is told of metrics that waited before they were sent (Sparkplug 3.0 6.4.6, `is_historical`).
import { Reader, Writer } from './octets'

/** Fields of a payload and of a metric, by their number (Sparkplug 3.0, Appendix B). */
const METRICS = 2
const IS_HISTORICAL = 5
const MARK = Uint8Array.of((IS_HISTORICAL << 3) | 0, 1)

/** Goes over the next field; says which it is. Throws an `OctetError` when the octets are no such fields. */
function skip(r: Reader): { number: number; wire: number; body: Uint8Array | null } {
  const tag = Number(r.varint())
  const wire = tag & 7
  let body: Uint8Array | null = null
  if (wire === 0) r.varint()
  else if (wire === 1) r.take(8)
  else if (wire === 5) r.take(4)
  else body = r.take(Number(r.varint()))
  return { number: tag >>> 3, wire, body }
}

/** Each metric exchanged for what `change` makes of it; all else as it was. */
function metrics(payload: Uint8Array, change: (metric: Uint8Array, w: Writer) => Uint8Array): Uint8Array {
  const r = new Reader(payload)
  const w = new Writer(payload.length + 64)
  const inner = new Writer(256)
  while (r.left > 0) {
    const from = r.at
    const { number, body } = skip(r)
    if (number !== METRICS || body === null) {
      w.raw(payload.subarray(from, r.at))
      continue
    }
    const changed = change(body, inner)
    w.u8((METRICS << 3) | 2)
    w.varint(changed.length)
    w.raw(changed)
  }
  return w.take()
}

/** The payload with every metric marked as historical: it waited, and a birth with later values went before it. */
export function historical(payload: Uint8Array): Uint8Array {
  return metrics(payload, (metric, w) => {
    w.raw(metric)
    w.raw(MARK)
    return w.take()
  })
}

/** The payload as it was before `historical`; another one stays as it is, also when it is no such payload at all. */
export function asMade(payload: Uint8Array): Uint8Array {
  try {
    let marked = false
    const plain = metrics(payload, (metric, w) => {
      const r = new Reader(metric)
      while (r.left > 0) {
        const from = r.at
        if (skip(r).number === IS_HISTORICAL) marked = true
        else w.raw(metric.subarray(from, r.at))
      }
      return w.take()
    })
    return marked ? plain : payload
  } catch {
    return payload
  }
}

/** A payload that holds another one, compressed (6.4.17). */
export interface Envelope {
  algorithm: 'gzip' | 'deflate'
  /** Epoch ms. */
  at: number
  body: Uint8Array
}

const text = new TextDecoder()

/** What is in such an envelope; null: it is none. */
export function envelopeOf(payload: Uint8Array): Envelope | null {
  try {
    const r = new Reader(payload)
    let at: number | null = null
    let uuid = ''
    let algorithm = ''
    let inner: Uint8Array | null = null
    while (r.left > 0) {
      const from = r.at
      const { number, wire, body } = skip(r)
      if (number === 1 && wire === 0) at = Number(new Reader(payload, from + 1, r.at).varint())
      else if (number === 4 && body) uuid = text.decode(body)
      else if (number === 5 && body) inner = body
      else if (number === METRICS && body) algorithm = /algorithm[\s\S]*?(GZIP|DEFLATE)/.exec(text.decode(body))?.[1]?.toLowerCase() ?? algorithm
    }
    if (uuid !== 'SPBV1.0_COMPRESSED' || inner === null || at === null) return null
    return algorithm === 'gzip' || algorithm === 'deflate' ? { algorithm, at, body: inner } : null
  } catch {
    return null
  }
}
