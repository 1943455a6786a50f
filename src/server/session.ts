import type { Caller } from '~/contract/person'
import { keyCaller, sessionCaller } from '~/store/person'
import { cameOverTls, proxyHops } from './address'
import { database } from './context'

const COOKIE = 'embrik_session'
/** Over TLS under a name that browsers let no other site or path set (RFC 6265bis 4.1.3.2). */
const SECURE_COOKIE = `__Host-${COOKIE}`

export function cookieToken(request: Request): string | null {
  const name = overTls(request) ? SECURE_COOKIE : COOKIE
  return new RegExp(`(?:^|;\\s*)${name}=([A-Za-z0-9_-]{20,100})(?:;|$)`).exec(request.headers.get('cookie') ?? '')?.[1] ?? null
}

const DEVICE = 'embrik_device'
const DEVICE_S = 365 * 86_400

/** What this browser is known by, when somebody has logged in here before. */
export function deviceToken(request: Request): string | null {
  return /(?:^|;\s*)embrik_device=([A-Za-z0-9_-]{20,100})(?:;|$)/.exec(request.headers.get('cookie') ?? '')?.[1] ?? null
}

/** `Set-Cookie` for it: sent with the log-in only, and worth nothing without the password. */
export const deviceCookie = (token: string, secure: boolean): string =>
  `${DEVICE}=${token}; Path=/api/session; HttpOnly; SameSite=Strict; Max-Age=${DEVICE_S}${secure ? '; Secure' : ''}`

const SIGN_ON = 'embrik_sign_on'

/** What this browser keeps while its owner is at the provider; null forgets it. Sent when they come back, from another site (Lax). */
export const signOnCookie = (kept: string | null, secure: boolean): string =>
  `${SIGN_ON}=${kept ?? ''}; Path=/api/session/sign-on; HttpOnly; SameSite=Lax; Max-Age=${kept === null ? 0 : 600}${secure ? '; Secure' : ''}`

export function keptSignOn(request: Request): string | null {
  return /(?:^|;\s*)embrik_sign_on=([A-Za-z0-9_-]{20,2000})(?:;|$)/.exec(request.headers.get('cookie') ?? '')?.[1] ?? null
}

function bearer(request: Request): string | null {
  return /^Bearer\s+(\S{10,200})$/i.exec(request.headers.get('authorization') ?? '')?.[1] ?? null
}

/** Who asks: an API key goes before a cookie. */
export async function callerOf(
  request: Request,
): Promise<{ caller: Caller | null; token: string | null; renewed: { token: string; expires: Date } | null }> {
  const key = bearer(request)
  if (key) return { caller: await keyCaller(database(), key), token: null, renewed: null }
  const token = cookieToken(request)
  const session = token ? await sessionCaller(database(), token) : null
  return { caller: session?.caller ?? null, token, renewed: session?.renewed ?? null }
}

/** Whether who asked with this request may still ask: for answers that go on for long. */
export async function stillValid(request: Request): Promise<boolean> {
  const key = bearer(request)
  if (key) return (await keyCaller(database(), key)) !== null
  const token = cookieToken(request)
  return token !== null && (await sessionCaller(database(), token, { renew: false })) !== null
}

/** Whether the browser came over TLS: to this server, or to the proxies in front of it when there are any (EMBRIK_PROXY_HOPS). */
export function overTls(request: Request): boolean {
  if (new URL(request.url).protocol === 'https:') return true
  return cameOverTls(request.headers.get('x-forwarded-proto') ?? undefined, proxyHops(process.env))
}

/** `Set-Cookie` for a session (RFC 6265 4.1): not for scripts, not for other sites. */
export function sessionCookie(token: string, expires: Date, secure: boolean): string {
  return `${secure ? SECURE_COOKIE : COOKIE}=${token}; Path=/; HttpOnly; SameSite=Lax; Expires=${expires.toUTCString()}${secure ? '; Secure' : ''}`
}

/**
 * Whether an unsafe request may have been made by another site: browsers say so (Fetch Metadata, or Origin against Host);
 * a request with a cookie that says nothing is refused too. API keys are never sent by browsers on their own.
 */
export function crossSite(request: Request): boolean {
  if (['GET', 'HEAD', 'OPTIONS'].includes(request.method)) return false
  if (bearer(request)) return false
  const site = request.headers.get('sec-fetch-site')
  if (site) return site !== 'same-origin'
  const origin = request.headers.get('origin')
  if (origin) {
    try {
      return new URL(origin).host !== request.headers.get('host')
    } catch {
      return true
    }
  }
  return cookieToken(request) !== null
}
