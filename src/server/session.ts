import type { Caller } from '~/contract/person'
import { keyCaller, sessionCaller } from '~/store/person'
import { database } from './context'

export const COOKIE = 'embrik_session'

export function cookieToken(request: Request): string | null {
  const m = /(?:^|;\s*)embrik_session=([A-Za-z0-9_-]{20,100})/.exec(request.headers.get('cookie') ?? '')
  return m ? m[1]! : null
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

/** Whether the browser came over TLS: to this server, or to the proxy in front of it when there is one (EMBRIK_BEHIND_PROXY=1). */
export function overTls(request: Request): boolean {
  if (new URL(request.url).protocol === 'https:') return true
  return process.env.EMBRIK_BEHIND_PROXY === '1' && request.headers.get('x-forwarded-proto')?.split(',')[0]?.trim() === 'https'
}

/** `Set-Cookie` for a session (RFC 6265 4.1): not for scripts, not for other sites. */
export function sessionCookie(token: string, expires: Date, secure: boolean): string {
  return `${COOKIE}=${token}; Path=/; HttpOnly; SameSite=Lax; Expires=${expires.toUTCString()}${secure ? '; Secure' : ''}`
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
