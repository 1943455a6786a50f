import type { Scalar } from '../value/deadband'

/**
 * The present state of many tags as columns: little-endian, first the count (u32) and four zero bytes, then handles and
 * statuses (u32), values, device times, times of receipt and times of the last change of value (f64, epoch ms; 0: never;
 * values that are no numbers are NaN, booleans 0 and 1), at last texts as UTF-8 JSON by handle.
 */
export interface TagStates {
  handle: Uint32Array
  status: Uint32Array
  value: Float64Array
  time: Float64Array
  seen: Float64Array
  changed: Float64Array
  texts: ReadonlyMap<number, string>
}

interface From {
  value: ArrayLike<Scalar | undefined>
  status: ArrayLike<number>
  time: ArrayLike<number>
  seen: ArrayLike<number>
  changed: ArrayLike<number>
}

const HEAD = 8
const WIDTH = 2 * 4 + 4 * 8
const TEXT_MAX = 60

export function encodeStates(handles: readonly number[], from: From): Uint8Array {
  const n = handles.length
  const numbers = new ArrayBuffer(HEAD + n * WIDTH)
  new DataView(numbers).setUint32(0, n, true)
  const c = columns(numbers, n)
  const texts: Record<number, string> = {}
  for (let i = 0; i < n; i++) {
    const h = handles[i]!
    const value = from.value[h] ?? null
    c.handle[i] = h
    c.status[i] = from.status[h] ?? 0
    c.value[i] = typeof value === 'string' || value === null || value === undefined ? Number.NaN : Number(value)
    c.time[i] = from.time[h] ?? 0
    c.seen[i] = from.seen[h] ?? 0
    c.changed[i] = from.changed[h] ?? 0
    if (typeof value === 'string') texts[h] = value.slice(0, TEXT_MAX)
  }
  const tail = new TextEncoder().encode(JSON.stringify(texts))
  const out = new Uint8Array(numbers.byteLength + tail.length)
  out.set(new Uint8Array(numbers))
  out.set(tail, numbers.byteLength)
  return out
}

export function decodeStates(bytes: ArrayBuffer): TagStates {
  const n = new DataView(bytes).getUint32(0, true)
  const texts = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, HEAD + n * WIDTH))) as Record<string, string>
  return { ...columns(bytes, n), texts: new Map(Object.entries(texts).map(([h, t]) => [Number(h), t])) }
}

// Typed arrays have the machine's order of bytes, which is little-endian wherever this runs.
function columns(b: ArrayBuffer, n: number) {
  const f = (i: number) => new Float64Array(b, HEAD + n * (8 + i * 8), n)
  return { handle: new Uint32Array(b, HEAD, n), status: new Uint32Array(b, HEAD + n * 4, n), value: f(0), time: f(1), seen: f(2), changed: f(3) }
}
