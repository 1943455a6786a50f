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

/** What else is said of a message than its address does. */
export interface Besides {
  mark?: Properties['mark']
  /** It goes before others, and is kept for who comes later. */
  first?: boolean
}

/** Makes the last step between shape and outbox: compression, and what travels beside the payload. */
export function packer(plan: How): (m: Addressed, payload?: string | Uint8Array, besides?: Besides) => Packed {
  const { shape, contentType } = plan
  const { expiryS, kept, how } = sentAs(plan.address)
  const compression = compressionOf(shape)
  const coded: [string, string][] = compression === 'none' ? [] : [['content-encoding', compression === 'zlib' ? 'deflate' : compression]]
  const all = { contentType, key: '', headers: coded, responseTopic: '', expiryS, kept, how }
  const [forText, forOctets] = [packProperties({ ...all, binary: false }), packProperties({ ...all, binary: true })]
  return (m, own = m.payload, { mark, first = false } = {}) => {
    const body =
      shape.kind === 'sparkplug-b' && shape.compression !== 'none'
        ? compressed(shape.compression, pack(shape.compression, own), m.at)
        : compression === 'none'
          ? own
          : pack(compression, own)
    const binary = typeof body !== 'string'
    const plain = m.key === '' && m.headers.length === 0 && m.responseTopic === '' && !mark && !first
    if (plain) return { payload: body, properties: binary ? forOctets : forText }
    const headers = [...coded, ...m.headers]
    const { key, responseTopic } = m
    const its = { key, headers, responseTopic, binary, kept: kept || first, ...(mark && { mark }) }
    return { payload: body, properties: packProperties({ ...all, ...its }) }
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
