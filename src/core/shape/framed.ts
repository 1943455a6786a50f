import type { ShapeSettings } from '~/contract/shape'
import type { Decoder, Encoder } from './shape'

/** With what the frame begins that names a schema of a registry. */
const MAGIC = 0
/** The first octet, then the number of the schema, the high octet first. */
const FRAME = 5

/** Whether payloads begin with the number of their schema in a registry. */
export const isFramed = (settings: ShapeSettings): settings is Extract<ShapeSettings, { subject: string }> =>
  'framing' in settings && settings.framing === 'registry'

const encoder = new TextEncoder()

/** A payload with its frame; `id` is the number of its schema, 32 bits. */
export function framed(id: number, payload: string | Uint8Array): Uint8Array {
  const octets = typeof payload === 'string' ? encoder.encode(payload) : payload
  const out = new Uint8Array(FRAME + octets.length)
  new DataView(out.buffer).setInt32(1, id)
  out.set(octets, FRAME)
  return out
}

/** An encoder whose payloads have the frame. */
export const framing =
  (encode: Encoder, id: number): Encoder =>
  (input) => {
    const made = encode(input)
    return made && { ...made, payload: framed(id, made.payload) }
  }

/** A decoder of payloads that have the frame. */
export const unframing =
  (decode: Decoder, id: number | null): Decoder =>
  (bytes, headers) => {
    if (bytes.length < FRAME || bytes[0] !== MAGIC) return { problem: 'It does not begin with the octet 0 and the number of a schema', at: 0 }
    const own = new DataView(bytes.buffer, bytes.byteOffset).getInt32(1)
    if (id !== null && own !== id) return { problem: `It is of the schema ${own}, not ${id}`, at: 1 }
    return decode(bytes.subarray(FRAME), headers)
  }
