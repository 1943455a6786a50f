import { createHash, createHmac } from 'node:crypto'
import type { IncomingMessage } from 'node:http'

const hmac = (key: string | Buffer, text: string) => createHmac('sha256', key).update(text).digest()
const sha256 = (octets: string | Buffer) => createHash('sha256').update(octets).digest('hex')
const encoded = (text: string) => encodeURIComponent(text).replace(/[!'()*]/g, (c) => `%${c.charCodeAt(0).toString(16).toUpperCase()}`)

/** What the store finds wrong with a request's signature, as a code and words. */
export type Wrong = readonly [code: string, message: string]

/** Clocks may be so far apart, ms. */
const SKEW_MS = 15 * 60_000

/** Whether a request is signed by the secret of its key (HMAC-SHA-256, version 4, over headers). Gives who asks, or what is wrong. */
export function whoSigned(
  req: IncomingMessage,
  body: Buffer,
  secretOf: (key: string) => string | null,
  o: { region: string; now: number },
): { key: string } | { wrong: Wrong } {
  const wrong = (...what: Wrong) => ({ wrong: what })
  const said = /^AWS4-HMAC-SHA256 Credential=([^/]+)\/(\d{8})\/([^/]+)\/s3\/aws4_request, SignedHeaders=([^,]+), Signature=([0-9a-f]{64})$/.exec(
    req.headers.authorization ?? '',
  )
  if (!said) return wrong('AccessDenied', 'a request must be signed')
  const [, key = '', day = '', region = '', names = '', signature = ''] = said
  const secret = secretOf(key)
  if (secret === null) return wrong('InvalidAccessKeyId', 'nobody here has this key')
  if (region !== o.region) return wrong('AuthorizationHeaderMalformed', `the region is ${o.region}`)
  const stamp = String(req.headers['x-amz-date'] ?? '')
  const at = Date.parse(stamp.replace(/^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)Z$/, '$1-$2-$3T$4:$5:$6Z'))
  if (!(Math.abs(at - o.now) <= SKEW_MS)) return wrong('RequestTimeTooSkewed', 'the clocks are too far apart')
  const sum = String(req.headers['x-amz-content-sha256'] ?? '')
  if (sum !== sha256(body)) return wrong('XAmzContentSHA256Mismatch', 'the body is not the one that was signed')
  const url = new URL(req.url ?? '/', 'http://store')
  const query = [...url.searchParams].map(([name, value]) => `${encoded(name)}=${encoded(value)}`).sort()
  const path = url.pathname
    .split('/')
    .map((level) => encoded(decodeURIComponent(level)))
    .join('/')
  const headers = names.split(';').map(
    (name) =>
      `${name}:${String(req.headers[name] ?? '')
        .trim()
        .replace(/\s+/g, ' ')}\n`,
  )
  const canonical = [req.method, path, query.join('&'), headers.join(''), names, sum].join('\n')
  const scope = `${day}/${region}/s3/aws4_request`
  const signing = [day, region, 's3', 'aws4_request'].reduce<string | Buffer>((k, part) => hmac(k, part), `AWS4${secret}`)
  const should = hmac(signing, ['AWS4-HMAC-SHA256', stamp, scope, sha256(canonical)].join('\n')).toString('hex')
  return should === signature ? { key } : wrong('SignatureDoesNotMatch', 'the signature is not the one of this request')
}
