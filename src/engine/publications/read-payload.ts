import type { Plan, ShownPayload } from '~/contract/publication'
import type { Envelope } from '~/core/delivery/envelope'
import { unpackProperties } from '~/core/delivery/properties'
import { compressionOf, decoderOf, scopeOf } from '~/core/shape/registry'
import { octets, unpack } from './compress'

/** So much of a payload is shown, octets. */
export const SHOWN_MAX = 64_000
const text = (value: unknown) => (value === null ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value))

/** A message that was stored, and what its shape reads from it again; null: it is not known what it was made by. */
export function payloadOf(e: Envelope, plan: Plan | null): ShownPayload {
  const { contentType, key, headers, responseTopic, binary } = unpackProperties(e.properties)
  const sent = octets(e.payload)
  const none = { kind: '', problem: 'Its publication does not run, or sends elsewhere by now', readings: [] }
  const message = plan?.messages.find((m) => m.place === e.topic)
  let read: ShownPayload['read'] = none
  let before = sent
  if (plan && message) {
    const compression = compressionOf(plan.shape)
    try {
      before = compression === 'none' ? sent : unpack(compression, sent)
      const decoded = decoderOf(plan.shape, scopeOf(plan, message))(before, Object.fromEntries(headers))
      read =
        'problem' in decoded
          ? { ...none, problem: decoded.problem }
          : { kind: decoded.kind, problem: '', readings: decoded.readings.slice(0, 200).map((r) => ({ ...r, value: text(r.value) })) }
    } catch (problem) {
      read = { ...none, problem: problem instanceof Error ? problem.message : String(problem) }
    }
  }
  const cut = Buffer.from(before.subarray(0, SHOWN_MAX))
  return {
    payload: binary ? cut.toString('base64') : cut.toString(),
    binary,
    bytes: sent.length,
    bytesBefore: before.length,
    contentType,
    key,
    headers,
    responseTopic,
    read,
  }
}
