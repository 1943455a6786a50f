import { describe, expect, it } from 'vitest'
import { fail } from '~/contract/failure'
import type { Role } from '~/contract/role'
import { type RouteKey, routes } from '~/contract/routes'
import { dispatch, type Handlers, refusal } from './endpoint'
import { openapi } from './openapi'
import { cookieToken, crossSite, overTls, sessionCookie } from './session'

const request = (method: string, headers: Record<string, string> = {}) => new Request('http://embrik.test/api/x', { method, headers })
const cookie = 'embrik_session=abcdefghijklmnopqrstuvwxyz'

describe('a request from another site', () => {
  it.each([
    ['GET', { cookie, 'sec-fetch-site': 'cross-site' }, false],
    ['POST', { cookie, 'sec-fetch-site': 'same-origin' }, false],
    ['POST', { cookie, 'sec-fetch-site': 'same-site' }, true],
    ['POST', { cookie, 'sec-fetch-site': 'cross-site' }, true],
    ['DELETE', { 'sec-fetch-site': 'cross-site' }, true],
    ['POST', { cookie, origin: 'http://evil.test', host: 'embrik.test' }, true],
    ['POST', { cookie, origin: 'http://embrik.test', host: 'embrik.test' }, false],
    ['POST', { cookie, origin: 'null', host: 'embrik.test' }, true],
    ['POST', { cookie }, true],
    ['POST', {}, false],
    ['POST', { authorization: 'Bearer ek_0123456789abcdef' }, false],
  ] as const)('%s with %j is refused: %s', (method, headers, refused) => {
    expect(crossSite(request(method, headers as Record<string, string>))).toBe(refused)
  })

  it('reads its cookie among others, and nothing that does not look like one', () => {
    expect(cookieToken(request('GET', { cookie: `a=1; ${cookie}; b=2` }))).toBe('abcdefghijklmnopqrstuvwxyz')
    expect(cookieToken(request('GET', { cookie: 'embrik_session=short' }))).toBeNull()
    expect(cookieToken(request('GET', { cookie: 'xembrik_session=abcdefghijklmnopqrstuvwxyz' }))).toBeNull()
  })
})

describe('the session cookie', () => {
  it('is for TLS only where the browser came over TLS, and a header says so only behind a proxy', () => {
    const plain = new Request('http://x/', { headers: { 'x-forwarded-proto': 'https' } })
    expect(overTls(new Request('https://x/'))).toBe(true)
    expect(overTls(plain)).toBe(false)
    process.env.EMBRIK_BEHIND_PROXY = '1'
    try {
      expect(overTls(plain)).toBe(true)
      expect(overTls(new Request('http://x/'))).toBe(false)
    } finally {
      delete process.env.EMBRIK_BEHIND_PROXY
    }
    expect(sessionCookie('t', new Date(0), true)).toContain('; Secure')
    expect(sessionCookie('t', new Date(0), false)).not.toContain('Secure')
    expect(sessionCookie('t', new Date(0), false)).toMatch(/HttpOnly; SameSite=Lax/)
  })
})

describe('an endpoint', () => {
  const called: string[] = []
  const handlers = Object.fromEntries(
    Object.keys(routes).map((k) => [
      k,
      async () => {
        called.push(k)
        return {}
      },
    ]),
  ) as unknown as Handlers
  const as = (role: Role | null) => ({ caller: role ? { kind: 'key' as const, id: 'k', name: 'somebody', role } : null, token: null, address: null })
  const ask = (method: string, path: string, role: Role | null, body?: unknown, type = 'application/json') =>
    dispatch(
      handlers,
      new Request(`http://x${path}`, {
        method,
        ...(body !== undefined && { body: typeof body === 'string' ? body : JSON.stringify(body), headers: { 'content-type': type } }),
      }),
      as(role),
    )
  const id = '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f'

  it('calls nobody below its role, whichever endpoint it is', async () => {
    for (const [key, route] of Object.entries(routes)) {
      const path = route.path.replace(':id', id).replace(':delivery', '1')
      for (const role of [null, 'viewer', 'operator', 'engineer', 'administrator'] as const) {
        called.length = 0
        const response = await ask(route.method, path, role, 'body' in route ? {} : undefined)
        const rank = ['viewer', 'operator', 'engineer', 'administrator']
        const may = route.role === null || (role !== null && rank.indexOf(role) >= rank.indexOf(route.role))
        if (!may) {
          expect([response.status, key, role]).toEqual([role === null ? 401 : 403, key, role])
          expect(called).toEqual([])
        } else expect([401, 403]).not.toContain(response.status)
      }
    }
  })

  it.each([
    ['GET', '/api/nothing', undefined, 404, 'route.unknown'],
    ['DELETE', '/api/tags', undefined, 405, 'route.method'],
    ['GET', '/api/sources/not-an-id', undefined, 404, 'id.unknown'],
    ['POST', '/api/tags', '{"tags":', 400, 'input.json'],
    ['POST', '/api/tags', { tags: [] }, 422, 'input.invalid'],
    ['GET', '/api/wall?from=1', undefined, 422, 'input.invalid'],
  ])('%s %s answers %s', async (method, path, body, status, code) => {
    const response = await ask(method as string, path as string, 'administrator', body)
    expect(response.status).toBe(status)
    expect(await response.json()).toMatchObject({ code, hint: expect.any(String), where: 'web' })
  })

  it('wants JSON, and not too much of it', async () => {
    expect((await ask('POST', '/api/tags', 'engineer', 'x', 'text/plain')).status).toBe(415)
    expect((await ask('POST', '/api/tags', 'engineer', `"${'x'.repeat(9 << 20)}"`)).status).toBe(413)
  })

  it('takes fixed paths before parameters', async () => {
    called.length = 0
    await ask('POST', '/api/tags/remove', 'engineer', { ids: [id] })
    expect(called).toEqual(['removeTags'])
  })

  it('gives nothing away of what was not foreseen', async () => {
    const bent = { ...handlers, listTags: async () => Promise.reject(new Error('select password from person')) } as unknown as Handlers
    const response = await dispatch(bent, new Request('http://x/api/tags'), as('viewer'))
    expect(response.status).toBe(500)
    expect(await response.text()).not.toContain('password')
    expect(refusal(fail(418, 'a', 'b', 'c', 'web')).status).toBe(418)
  })

  it.each(['55P03', '57014'])('says that the database is busy where it waited too long: %s', async (code) => {
    const response = refusal(Object.assign(new Error('canceling statement'), { code }))
    expect([response.status, ((await response.json()) as { code: string }).code]).toEqual([503, 'database.busy'])
  })
})

describe('the description of the API', () => {
  const document = openapi() as { openapi: string; paths: Record<string, Record<string, { operationId: string; responses: object }>> }

  it('is OpenAPI 3.1 and holds every endpoint', () => {
    expect(document.openapi).toBe('3.1.0')
    const operations = Object.values(document.paths).flatMap((p) => Object.values(p).map((o) => o.operationId))
    expect(operations.sort()).toEqual((Object.keys(routes) as RouteKey[]).sort())
    expect(document.paths['/api/sources/{id}']?.put?.responses).toBeDefined()
  })
})
