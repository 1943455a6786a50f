import type { Failure } from '~/contract/failure'
import { type Envelope, ID_PROPERTY } from '~/core/delivery/envelope'
import type { Properties } from '~/core/delivery/properties'

/** One message on its way. */
export interface Sending {
  path: string
  payload: Uint8Array
  beside: Properties
  id: string
}

const LF = Buffer.from('\n')

/** What a request holds: one message as it is, many as a JSON array or as lines of JSON. */
export function bodyOf(sent: readonly Sending[], batch: 'one' | 'array' | 'lines'): Uint8Array {
  if (batch === 'one') return sent[0]!.payload
  const parts: Uint8Array[] = []
  if (batch === 'array') parts.push(Buffer.from('['))
  for (const [i, { payload }] of sent.entries()) {
    if (batch === 'array' && i > 0) parts.push(Buffer.from(','))
    parts.push(batch === 'lines' ? inOneLine(payload) : payload)
    if (batch === 'lines') parts.push(LF)
  }
  if (batch === 'array') parts.push(Buffer.from(']'))
  return Buffer.concat(parts)
}

/** A line break in JSON stands between its parts only: within texts it is written otherwise (RFC 8259 7). */
function inOneLine(payload: Uint8Array): Uint8Array {
  if (!payload.includes(10) && !payload.includes(13)) return payload
  return payload.map((octet) => (octet === 10 || octet === 13 ? 32 : octet))
}

/** Several ids as one text, runs of numbers put together: `'7f3a.3.10442-10451,7f3a.4.1'`. */
export function idsText(ids: readonly string[]): string {
  const runs: { head: string; first: number; last: number }[] = []
  for (const id of ids) {
    const dot = id.lastIndexOf('.')
    const [head, n] = [id.slice(0, dot), Number(id.slice(dot + 1))]
    const run = runs.at(-1)
    if (run?.head === head && run.last === n - 1) run.last = n
    else runs.push({ head, first: n, last: n })
  }
  return runs.map(({ head, first, last }) => (first === last ? `${head}.${first}` : `${head}.${first}-${last}`)).join(',')
}

/** A text as the value of a header: what is beyond printable ASCII goes percent-encoded, as UTF-8 (RFC 9110 5.5 knows no such text). */
export const headerText = (text: string): string => text.replace(/[^\x20-\x7e]+/g, (part) => encodeURIComponent(part.toWellFormed?.() ?? part)).trim()

/** What stands beside the payload. The key by which the server knows it again is that of the message, or of just these messages. */
export function headersOf(sent: readonly Sending[], batch: 'one' | 'array' | 'lines'): Record<string, string> {
  const { contentType, headers } = sent[0]!.beside
  const ids = idsText(sent.map(({ id }) => id))
  const type = batch === 'one' ? contentType : batch === 'array' ? 'application/json' : 'application/x-ndjson'
  return {
    accept: 'application/json',
    ...(type !== '' && { 'content-type': headerText(type) }),
    ...Object.fromEntries(headers.map(([name, text]) => [name.toLowerCase(), headerText(text)])),
    [ID_PROPERTY]: ids,
    'idempotency-key': `"${ids}"`,
  }
}

/** Why a message cannot be sent at all; null: it can. */
export function unfitFor({ topic }: Pick<Envelope, 'topic'>): Failure | null {
  if (topic !== '' && /^[\x21-\x7e]+$/.test(topic) && !/[#"<>\\^`|]/.test(topic) && !/(^|\/)\.\.?(\/|\?|$)/.test(topic)) return null
  return {
    code: 'http.path',
    message: `A message to ${topic.slice(0, 200)} was not sent: that is no path`,
    hint: 'Correct the path template: values in it may need the filter slug',
    where: 'destination',
  }
}
