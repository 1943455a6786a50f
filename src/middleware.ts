import { defineMiddleware } from 'astro:middleware'
import { randomBytes } from 'node:crypto'
import { fail } from '~/contract/failure'
import { database } from '~/server/context'
import { refusal } from '~/server/endpoint'
import { callerOf, crossSite, overTls, sessionCookie } from '~/server/session'
import { needsSetUp } from '~/store/person'

const open = new Set(['/login', '/setup'])

/** Guards every page and endpoint: cross-site requests, who is asking, and the security headers. */
export const onRequest = defineMiddleware(async (context, next) => {
  const { request, url, locals } = context
  const api = url.pathname.startsWith('/api/')
  let response: Response
  try {
    if (crossSite(request)) throw fail(403, 'access.cross-site', 'This request comes from another site', 'Use the interface, or an API key', 'web')
    const { caller, token, renewed } = await callerOf(request)
    locals.caller = caller
    locals.token = token
    if (!api && !caller && !open.has(url.pathname)) {
      const next = url.pathname === '/' ? '' : `?next=${encodeURIComponent(url.pathname + url.search)}`
      response = context.redirect((await needsSetUp(database())) ? '/setup' : `/login${next}`)
    } else response = await next()
    if (renewed && !response.headers.has('set-cookie')) {
      response = new Response(response.body, response)
      response.headers.append('set-cookie', sessionCookie(renewed.token, renewed.expires, overTls(request)))
    }
  } catch (e) {
    response = refusal(e)
  }
  return guarded(response, import.meta.env.DEV, overTls(request))
})

/** Adds the security headers; pages get a nonce for the scripts that Astro writes into them. */
async function guarded(response: Response, dev: boolean, secure: boolean): Promise<Response> {
  const headers = new Headers(response.headers)
  headers.set('x-content-type-options', 'nosniff')
  headers.set('referrer-policy', 'same-origin')
  headers.set('x-frame-options', 'DENY')
  headers.set('cross-origin-opener-policy', 'same-origin')
  headers.set('cross-origin-resource-policy', 'same-origin')
  headers.set('permissions-policy', 'camera=(), microphone=(), geolocation=(), payment=(), usb=()')
  if (secure) headers.set('strict-transport-security', 'max-age=31536000')
  if (!headers.get('content-type')?.startsWith('text/html')) headers.set('content-security-policy', "default-src 'none'; frame-ancestors 'none'")
  if (!headers.get('content-type')?.startsWith('text/html') || dev) return new Response(response.body, { status: response.status, headers })
  const nonce = randomBytes(16).toString('base64')
  headers.set(
    'content-security-policy',
    `default-src 'self'; script-src 'self' 'nonce-${nonce}'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'`,
  )
  headers.set('cache-control', 'no-store')
  headers.delete('content-length')
  // Nothing that people typed is written into pages on the server, so every script tag here is ours.
  const html = (await response.text()).replaceAll('<script', `<script nonce="${nonce}"`)
  return new Response(html, { status: response.status, headers })
}
