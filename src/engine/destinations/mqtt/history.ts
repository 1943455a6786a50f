import { compressed } from '~/core/shape/sparkplug-birth'
import { asMade, envelopeOf, historical } from '~/core/shape/sparkplug-history'
import { pack, unpack } from '../../publications/compress'

/** So large may be what is packed in a payload. */
const UNPACKED_MAX = 4_000_000

/** The same done to what is packed, where it is packed. */
function within(payload: Uint8Array, change: (plain: Uint8Array) => Uint8Array): Uint8Array {
  const envelope = envelopeOf(payload)
  if (!envelope) return change(payload)
  const before = unpack(envelope.algorithm, envelope.body, UNPACKED_MAX)
  const after = change(before)
  return after === before ? payload : compressed(envelope.algorithm, pack(envelope.algorithm, after), envelope.at)
}

/** A payload that waited, as it goes out. */
export const markHistorical = (payload: Uint8Array): Uint8Array => within(payload, historical)

/** One that came, as it was made; octets of somebody else stay as they are. */
export function withoutMark(payload: Uint8Array): Uint8Array {
  try {
    return within(payload, asMade)
  } catch {
    return payload
  }
}
