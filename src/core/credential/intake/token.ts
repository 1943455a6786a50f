import type { IntakeFinding } from '~/contract/intake'
import { dayOf, finding } from './finding'

/** A token that can be read without its key (JWT, RFC 7519): what stands in it, and nothing of its signature. */
export interface TokenFacts {
  /** RFC 7518 3.1. */
  algorithm: string
  /** By which name its key is known; null: it says none. */
  keyId: string | null
  issuer: string | null
  subject: string | null
  audience: string[]
  /** Epoch ms; null: it does not say. */
  issuedAt: number | null
  notBefore: number | null
  endsAt: number | null
}

const HOUR_MS = 3_600_000
/** With less left of a token it is warned of. */
const SOON_MS = 24 * HOUR_MS
/** Clocks may differ by so much before a token counts as one of the future (RFC 7519 4.1.5). */
const LEEWAY_MS = 60_000
/** Text longer than this is told in part. */
const SHOWN = 200

function part(text: string): Record<string, unknown> | null {
  try {
    const octets = Uint8Array.from(atob(text.replaceAll('-', '+').replaceAll('_', '/')), (c) => c.charCodeAt(0))
    const value: unknown = JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(octets))
    return typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Record<string, unknown>) : null
  } catch {
    return null
  }
}

const shown = (value: unknown): string | null => (typeof value === 'string' && value !== '' ? value.slice(0, SHOWN) : null)
/** Seconds since 1970, as tokens write them (RFC 7519 2, NumericDate). */
const time = (value: unknown): number | null =>
  typeof value === 'number' && Number.isFinite(value) && Math.abs(value) < 8.64e12 ? Math.round(value * 1000) : null

/** Reads a token; null: it is none of this kind, such as one that only its maker can read. */
export function tokenFacts(token: string): TokenFacts | null {
  const [head, body, signature, ...more] = token.split('.')
  if (head === undefined || body === undefined || signature === undefined || more.length > 0) return null
  const [header, claims] = [part(head), part(body)]
  if (!header || !claims) return null
  const { aud } = claims
  return {
    algorithm: shown(header.alg) ?? 'none',
    keyId: shown(header.kid),
    issuer: shown(claims.iss),
    subject: shown(claims.sub),
    audience: (Array.isArray(aud) ? aud : [aud]).flatMap((one) => shown(one) ?? []).slice(0, 10),
    issuedAt: time(claims.iat),
    notBefore: time(claims.nbf),
    endsAt: time(claims.exp),
  }
}

/** What is worth knowing of a token, in one line. */
export function tokenWords({ algorithm, subject, audience, endsAt }: TokenFacts): string {
  const parts = [
    algorithm,
    subject && `of ${subject}`,
    audience.length > 0 && `for ${audience.join(', ')}`,
    endsAt === null ? 'without an end' : `until ${momentOf(endsAt)}`,
  ]
  return parts.filter(Boolean).join(', ')
}

/** A moment for people, to the minute: epoch ms. */
export const momentOf = (at: number): string => `${new Date(at).toISOString().slice(0, 16).replace('T', ' ')} UTC`

/** A host in an audience, which may be a whole address; null: it is no address at all. */
function hostIn(audience: string): string | null {
  const host = /^(?:[a-z][a-z0-9+.-]*:\/\/)?([^/:?#\s]+)/i.exec(audience)?.[1] ?? ''
  return host.includes('.') ? host.toLowerCase() : null
}

/** What is to be said of a token, with the host and the identity that stood beside it, at `now` (epoch ms). */
export function tokenFindings(token: TokenFacts, beside: { host: string | null; identity: string | null }, now: number): IntakeFinding[] {
  return [...times(token, now), ...meaning(token, beside)]
}

function times({ endsAt, notBefore, issuedAt }: TokenFacts, now: number): IntakeFinding[] {
  if (endsAt !== null && endsAt <= now)
    return [finding('stop', 'token-ended', `The token ended on ${momentOf(endsAt)}`, 'Ask for a new one, or for the key to make tokens from')]
  const begins = notBefore ?? issuedAt
  if (begins !== null && begins > now + LEEWAY_MS)
    return [
      finding(
        'stop',
        'token-not-yet',
        `The token is valid only from ${momentOf(begins)} on`,
        'Is the clock of this machine right? Else ask for one that is valid now',
      ),
    ]
  if (endsAt !== null && endsAt - now < SOON_MS) {
    const minutes = Math.max(1, Math.round((endsAt - now) / 60_000))
    const left = minutes < 120 ? `${minutes} min` : `${Math.round(minutes / 60)} h`
    return [
      finding('warning', 'token-ends-soon', `The token ends in ${left}`, 'It cannot be renewed from itself: ask for the key to make tokens from'),
    ]
  }
  if (endsAt !== null)
    return [
      finding('note', 'token-ends', `The token ends on ${dayOf(new Date(endsAt))}`, 'Ask for its successor in time: whoever uses it is refused then'),
    ]
  return []
}

function meaning(
  { algorithm, audience, subject }: TokenFacts,
  { host, identity }: { host: string | null; identity: string | null },
): IntakeFinding[] {
  const found: IntakeFinding[] = []
  if (algorithm.toLowerCase() === 'none')
    found.push(finding('stop', 'token-unsigned', 'The token is not signed', 'No peer should take it: ask for one that is'))
  const hosts = audience.map(hostIn)
  if (host !== null && hosts.length > 0 && hosts.every((one) => one !== null && one !== host.toLowerCase()))
    found.push(
      finding(
        'warning',
        'token-audience',
        `The token is for ${audience.join(', ')}, not for ${host}`,
        'Is it the token of another place? Ask for one made for this one',
      ),
    )
  if (
    identity !== null &&
    subject !== null &&
    !subject.toLowerCase().includes(identity.toLowerCase()) &&
    !identity.toLowerCase().includes(subject.toLowerCase())
  )
    found.push(
      finding(
        'warning',
        'token-identity',
        `The token is of ${subject}, and the client id is ${identity}`,
        'Most peers want the two to agree: ask whose token it is',
      ),
    )
  return found
}
