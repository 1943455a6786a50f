import { FailureError, fail } from '~/contract/failure'
import { invalid } from '~/contract/failure-form'
import type { Caller } from '~/contract/person'
import { allows } from '~/contract/role'
import { type BodyOf, type QueryOf, type Route, type RouteKey, routes } from '~/contract/routes'
import { tooDeep } from '~/core/value/json-depth'
import { jsonAnswer } from './answer'
import { auditing } from './audit'

/** The largest body where a route says nothing else, MB; of somebody who has not logged in, octets. */
const BODY_MAX = 8
const STRANGER_BODY_MAX = 16_384
/** JSON deeper than this is nothing that is asked for here. */
const DEPTH_MAX = 64

/** What a handler gets: input already checked against the contract. */
export interface Call<K extends RouteKey> {
  /** Set for every route that needs a role. */
  caller: Caller
  params: Record<string, string>
  query: QueryOf<K>
  body: BodyOf<K>
  request: Request
  address: string | null
  /** The session's token when a cookie brought it. */
  token: string | null
  headers: Headers
}

export type Handler<K extends RouteKey> = (call: Call<K>) => Promise<unknown>
export type Handlers = { [K in RouteKey]: Handler<K> }

interface Compiled {
  key: RouteKey
  route: Route
  parts: string[]
}
const compiled: Compiled[] = Object.entries(routes).map(([key, route]) => ({ key: key as RouteKey, route, parts: route.path.split('/') }))

function decoded(part: string): string {
  try {
    return decodeURIComponent(part)
  } catch {
    throw fail(404, 'route.unknown', 'There is nothing at this address', 'See /api/openapi.json', 'web')
  }
}

function find(method: string, path: string): { key: RouteKey; route: Route; params: Record<string, string> } {
  const parts = path.replace(/\/+$/, '').split('/')
  let known = false
  // Fixed parts win over parameters: /sources/check is not a source called check.
  const candidates = compiled
    .filter((c) => c.parts.length === parts.length && c.parts.every((p, i) => p.startsWith(':') || p === parts[i]))
    .sort((a, b) => a.parts.filter((p) => p.startsWith(':')).length - b.parts.filter((p) => p.startsWith(':')).length)
  for (const c of candidates) {
    known = true
    if (c.route.method !== method) continue
    const params: Record<string, string> = {}
    c.parts.forEach((p, i) => {
      if (p.startsWith(':')) params[p.slice(1)] = decoded(parts[i]!)
    })
    return { key: c.key, route: c.route, params }
  }
  throw known
    ? fail(405, 'route.method', `${method} is not possible here`, 'See /api/openapi.json', 'web')
    : fail(404, 'route.unknown', 'There is nothing at this address', 'See /api/openapi.json', 'web')
}

async function readBody(request: Request, route: Route): Promise<unknown> {
  const type = route.from ?? 'application/json'
  if (!request.headers.get('content-type')?.startsWith(type))
    throw route.from
      ? fail(415, 'input.type', `The body must be ${type}`, `Send Content-Type: ${type}`, 'web')
      : fail(415, 'input.type', 'The body must be JSON', 'Send Content-Type: application/json', 'web')
  const most = route.role === null ? STRANGER_BODY_MAX : (route.bodyMax ?? BODY_MAX) << 20
  const words = route.role === null ? `${most} octets` : `${most >> 20} MB`
  const tooLarge = () => fail(413, 'input.large', `The request is larger than ${words}`, 'Send less at once', 'web')
  if (Number(request.headers.get('content-length') ?? 0) > most) throw tooLarge()
  const reader = request.body?.getReader()
  const chunks: Uint8Array[] = []
  for (let size = 0; reader; ) {
    const { done, value } = await reader.read()
    if (done) break
    size += value.length
    if (size > most) {
      void reader.cancel().catch(() => undefined)
      throw tooLarge()
    }
    chunks.push(value)
  }
  const bytes = Buffer.concat(chunks)
  if (route.from) return bytes
  const text = bytes.toString('utf8')
  if (tooDeep(text, DEPTH_MAX) !== null) throw fail(400, 'input.depth', `The body nests deeper than ${DEPTH_MAX} levels`, 'Send it flatter', 'web')
  try {
    return JSON.parse(text)
  } catch {
    throw fail(400, 'input.json', 'The body is not JSON', 'Check quotes and commas', 'web')
  }
}

const uuid = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i

/** Answers one API request: finds the route, checks the role and the input, calls the handler, and puts failures into the one form. */
export async function dispatch(
  handlers: Handlers,
  request: Request,
  who: { caller: Caller | null; token: string | null; address: string | null },
): Promise<Response> {
  try {
    const url = new URL(request.url)
    const { key, route, params } = find(request.method, url.pathname)
    if (route.role !== null) {
      if (!who.caller) throw fail(401, 'access.unknown', 'Nobody is logged in', 'Log in, or send an API key as Authorization: Bearer', 'web')
      if (!allows(who.caller.role, route.role))
        throw fail(403, 'access.role', `This needs the role ${route.role}; ${who.caller.name} is ${who.caller.role}`, 'Ask an administrator', 'web')
    }
    if (params.id !== undefined && !uuid.test(params.id)) throw fail(404, 'id.unknown', 'There is no such thing', 'Ids are UUIDs', 'web')
    const query = route.query?.safeParse(Object.fromEntries(url.searchParams))
    if (query && !query.success) throw invalid(query.error)
    const body = route.body?.safeParse(await readBody(request, route))
    if (body && !body.success) throw invalid(body.error)
    const headers = new Headers({ 'cache-control': 'no-store' })
    const call = { caller: who.caller, params, query: query?.data, body: body?.data, request, address: who.address, token: who.token, headers }
    const audit = await auditing(key, params.id)
    const result = await (handlers[key] as Handler<RouteKey>)(call as never)
    // The act is done by now: what cannot be told of it stands in the log at least.
    await audit
      ?.done({ caller: who.caller, address: who.address, answer: result, body: body?.data })
      .catch((e: unknown) => console.error(`web: the audit of ${key} by ${who.caller?.name ?? 'nobody'} was not written: ${String(e)}`))
    if (result instanceof Response) return result
    if (route.answer === null) return new Response(null, { status: 204, headers })
    return await jsonAnswer(request, result, headers)
  } catch (e) {
    return refusal(e)
  }
}

/** A failure as an answer; what was not foreseen is logged and gives nothing away. */
export function refusal(e: unknown): Response {
  // PostgreSQL's class 22, data exception: a number too large for its column, a text that cannot be stored.
  const code = (e as { code?: unknown } | null)?.code
  if (typeof code === 'string' && /^22[0-9A-Z]{3}$/.test(code))
    return refusal(fail(422, 'input.value', 'A value is out of range', 'Look at the numbers and texts of the request', 'web'))
  // 55P03, lock not available, and 57014, query canceled: somebody else holds what is needed for longer than may be waited.
  if (code === '55P03' || code === '57014')
    return refusal(fail(503, 'database.busy', 'The database is busy with this just now', 'Nothing was changed. Try again in a moment', 'database'))
  const known = e instanceof FailureError
  if (!known) console.error(`web: ${e instanceof Error ? (e.stack ?? e.message) : String(e)}`)
  const database = !known && /ECONNREFUSED|terminat|timeout exceeded|Connection/i.test(String(e))
  const failure = known
    ? e
    : database
      ? fail(503, 'database.away', 'The database does not answer', 'Try again in a moment', 'database')
      : fail(500, 'web.failed', 'Something went wrong inside', 'The log of the web process has more', 'web')
  return new Response(JSON.stringify(failure.failure), {
    status: failure.status,
    headers: {
      'content-type': 'application/json; charset=utf-8',
      'cache-control': 'no-store',
      // RFC 9110 10.2.3
      ...(failure.failure.retryS !== undefined && { 'retry-after': String(failure.failure.retryS) }),
    },
  })
}
