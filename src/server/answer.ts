import { createHash } from 'node:crypto'
import { promisify } from 'node:util'
import { constants, gzip } from 'node:zlib'

const squeeze = promisify(gzip)

/** Less is sent as it is: the head of what is packed costs more than it saves, octets. */
const WORTH_PACKING = 1400

/** Whether an answer may come packed (RFC 9110 12.5.3). */
export function takesGzip(header: string | null): boolean {
  for (const part of (header ?? '').split(',')) {
    const [coding = '', ...parameters] = part
      .trim()
      .toLowerCase()
      .split(/\s*;\s*/)
    if (coding !== 'gzip' && coding !== '*') continue
    return !parameters.some((p) => /^q=0(\.0*)?$/.test(p))
  }
  return false
}

/** Whether one of the tags that somebody has is this one; weakly, since packed and plain say the same (RFC 9110 13.1.2, 8.8.3.2). */
export function hasTag(header: string | null, tag: string): boolean {
  if (header === null) return false
  const opaque = (t: string) => t.trim().replace(/^W\//, '')
  return header.trim() === '*' || header.split(',').some((t) => opaque(t) === opaque(tag))
}

/**
 * An answer in JSON. What was asked for by GET says by its tag whether it is still the same, and then is not sent again; it is
 * packed where the asker takes that. What is answered to a change is never packed: secrets that are shown once stand there, and
 * lengths of packed texts tell of what is in them.
 */
export async function jsonAnswer(request: Request, result: unknown, headers: Headers): Promise<Response> {
  const text = JSON.stringify(result)
  headers.set('content-type', 'application/json; charset=utf-8')
  if (request.method !== 'GET') return new Response(text, { status: 200, headers })
  const tag = `W/"${createHash('sha256').update(text).digest('base64url').slice(0, 22)}"`
  headers.set('etag', tag)
  headers.set('vary', 'accept-encoding')
  if (hasTag(request.headers.get('if-none-match'), tag)) {
    headers.delete('content-type')
    return new Response(null, { status: 304, headers })
  }
  if (text.length < WORTH_PACKING || !takesGzip(request.headers.get('accept-encoding'))) return new Response(text, { status: 200, headers })
  const packed = await squeeze(text, { level: constants.Z_BEST_SPEED })
  headers.set('content-encoding', 'gzip')
  return new Response(packed, { status: 200, headers })
}
