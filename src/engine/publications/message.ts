import type { Plan, ShownPayload } from '~/contract/publication'
import { sentAs } from '~/core/address/kinds'
import { type Properties, packProperties } from '~/core/delivery/properties'
import type { Addressed } from '~/core/publication/runner'
import { compressionOf } from '~/core/shape/registry'
import type { Decoder } from '~/core/shape/shape'
import { compressed } from '~/core/shape/sparkplug-birth'
import { octets, pack, unpack } from './compress'

/** A message as it goes into the outbox. */
export interface Packed {
  payload: string | Uint8Array
  properties: string
}

type How = Pick<Plan, 'shape' | 'contentType' | 'address'>

/** Makes the last step between shape and outbox: compression, and what travels beside the payload. */
export function packer(plan: How): (m: Addressed, payload?: string | Uint8Array, mark?: Properties['mark']) => Packed {
  const { shape, contentType } = plan
  const { expiryS } = sentAs(plan.address)
  const compression = compressionOf(shape)
  const coded: [string, string][] = compression === 'none' ? [] : [['content-encoding', compression === 'zlib' ? 'deflate' : compression]]
  const plain = (binary: boolean) => packProperties({ contentType, binary, key: '', headers: coded, responseTopic: '', expiryS })
  const [forText, forOctets] = [plain(false), plain(true)]
  return (m, own = m.payload, mark) => {
    const body =
      shape.kind === 'sparkplug-b' && shape.compression !== 'none'
        ? compressed(shape.compression, pack(shape.compression, own), m.at)
        : compression === 'none'
          ? own
          : pack(compression, own)
    const binary = typeof body !== 'string'
    if (m.key === '' && m.headers.length === 0 && m.responseTopic === '' && !mark) return { payload: body, properties: binary ? forOctets : forText }
    const headers = [...coded, ...m.headers]
    const { key, responseTopic } = m
    return { payload: body, properties: packProperties({ contentType, binary, key, headers, responseTopic, expiryS, ...(mark && { mark }) }) }
  }
}

const SHOWN_MAX = 64_000
const text = (value: unknown) => (value === null ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value))

/** A message for people, read again by its own shape. */
export function shownPayload(plan: How, m: Addressed, packed: Packed, decode: Decoder): ShownPayload {
  const compression = compressionOf(plan.shape)
  const sent = octets(packed.payload)
  // What is read again is what was sent, unpacked; of Sparkplug's envelope what is in it.
  const before = compression === 'none' ? octets(m.payload) : unpack(compression, sent)
  const binary = typeof m.payload !== 'string'
  const decoded = decode(before, Object.fromEntries(m.headers))
  return {
    payload: binary ? Buffer.from(before.subarray(0, SHOWN_MAX)).toString('base64') : (m.payload as string).slice(0, SHOWN_MAX),
    binary,
    bytes: sent.length,
    bytesBefore: before.length,
    contentType: plan.contentType,
    key: m.key,
    headers: [...(compression === 'none' ? [] : [['content-encoding', compression] as [string, string]]), ...m.headers],
    responseTopic: m.responseTopic,
    read:
      'problem' in decoded
        ? { kind: '', problem: decoded.problem, readings: [] }
        : { kind: decoded.kind, problem: '', readings: decoded.readings.slice(0, 200).map((r) => ({ ...r, value: text(r.value) })) },
  }
}
