import { keepPreviousData, type Query, QueryClient, useQuery } from '@tanstack/react-query'
import { type Failure, FailureError } from '~/contract/failure'
import { paths } from '~/contract/paths'
import type { AnswerOf, InputOf, QueryOf, Route, RouteKey } from '~/contract/routes'
import { toLogIn } from './leaving'

interface Options<K extends RouteKey> {
  params?: Record<string, string>
  body?: InputOf<K>
  query?: QueryOf<K>
  signal?: AbortSignal
}

/** Questions are answered soon or asked again; what changes something may take its time. */
const ANSWER_MS = 30_000
const signalOf = ({ method }: Pick<Route, 'method'>, given: AbortSignal | undefined) => {
  const signals = [...(given ? [given] : []), ...(method === 'GET' ? [AbortSignal.timeout(ANSWER_MS)] : [])]
  return signals.length > 0 ? { signal: AbortSignal.any(signals) } : {}
}

/** So many answers are kept, the last asked for: the server says when one still holds, and does not send it again. */
const KEPT = 40
const kept = new Map<string, { tag: string; answer: unknown }>()

function keep(path: string, tag: string, answer: unknown): void {
  kept.delete(path)
  kept.set(path, { tag, answer })
  for (const oldest of kept.keys()) {
    if (kept.size <= KEPT) break
    kept.delete(oldest)
  }
}

function pathOf<K extends RouteKey>(key: K, o: Options<K>): string {
  let path = paths[key].path.replace(/:(\w+)/g, (_, name: string) => encodeURIComponent(o.params?.[name] ?? ''))
  if (o.query)
    path += `?${new URLSearchParams(
      Object.entries(o.query as object)
        .filter(([, v]) => v !== undefined)
        .map(([k, v]) => [k, String(v)]),
    )}`
  return path
}

async function send<K extends RouteKey>(key: K, o: Options<K>, tag?: string): Promise<Response> {
  const route: Pick<Route, 'method'> = paths[key]
  let response: Response
  try {
    response = await fetch(pathOf(key, o), {
      method: route.method,
      ...(tag !== undefined && { headers: { 'if-none-match': tag } }),
      ...(o.body !== undefined && { body: JSON.stringify(o.body), headers: { 'content-type': 'application/json' } }),
      ...signalOf(route, o.signal),
    })
  } catch (e) {
    if (o.signal?.aborted) throw e
    throw new FailureError(
      { code: 'web.away', message: 'Embrik does not answer', hint: 'Check your connection; what you typed is kept', where: 'web' },
      503,
    )
  }
  if (response.ok || response.status === 304) return response
  const failure = (await response.json().catch(() => null)) as Failure | null
  if (response.status === 401 && key !== 'logIn') toLogIn(true)
  throw new FailureError(
    failure ?? { code: 'web.failed', message: `The answer was ${response.status}`, hint: 'Try again', where: 'web' },
    response.status,
  )
}

/** Calls an endpoint by its name in the contract; throws a FailureError. */
export async function call<K extends RouteKey>(key: K, o: Options<K> = {}): Promise<AnswerOf<K>> {
  if (paths[key].method === 'GET') return ask(key, o)
  const response = await send(key, o)
  return (response.status === 204 ? undefined : await response.json()) as AnswerOf<K>
}

/** What was answered before is given again, the same object, while the server says that it holds. */
async function ask<K extends RouteKey>(key: K, o: Options<K>): Promise<AnswerOf<K>> {
  const path = pathOf(key, o)
  const had = kept.get(path)
  const response = await send(key, o, had?.tag)
  if (response.status === 304 && had) {
    keep(path, had.tag, had.answer)
    return had.answer as AnswerOf<K>
  }
  if (response.status === 204) return undefined as AnswerOf<K>
  const answer = (await response.json()) as AnswerOf<K>
  const tag = response.headers.get('etag')
  if (tag) keep(path, tag, answer)
  return answer
}

/** Calls an endpoint that answers with a file; throws a FailureError. */
export async function callFile<K extends RouteKey>(key: K, o: Options<K>): Promise<Blob> {
  return (await send(key, o)).blob()
}

/** Calls a streaming endpoint; `each` gets every item as it comes, `alive` hears of octets, also of those that say nothing. */
export async function callStream<K extends RouteKey>(key: K, o: Options<K>, each: (item: AnswerOf<K>) => void, alive?: () => void): Promise<void> {
  const response = await send(key, o)
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { done, value } = await reader.read()
    if (done) break
    alive?.()
    const lines = (rest + value).split('\n')
    rest = lines.pop() ?? ''
    for (const line of lines) if (line) each(JSON.parse(line) as AnswerOf<K>)
  }
}

export const queryClient = new QueryClient({
  defaultOptions: { queries: { retry: (n, e) => n < 2 && !(e instanceof FailureError && e.status < 500), staleTime: 5_000 } },
})

/** Under what an answer is kept in the cache. */
export const callKey = <K extends RouteKey>(key: K, o: Options<K> = {}) => [
  key,
  o.params ?? null,
  o.query ?? null,
  ...(o.body === undefined ? [] : [o.body]),
]

interface Kept<K extends RouteKey> {
  /** Asked again after so many ms; or after as long as the last answer makes it, false: no more. */
  refetchMs?: number | ((last: AnswerOf<K> | undefined) => number | false)
  enabled?: boolean
  keepPrevious?: boolean
}

/** A list or thing of the server, kept in the cache under its endpoint's name. */
export function useCall<K extends RouteKey>(key: K, o: Options<K> & Kept<K> = {}) {
  const { refetchMs } = o
  return useQuery<AnswerOf<K>>({
    queryKey: callKey(key, o),
    queryFn: ({ signal }) => call(key, { ...o, signal }),
    ...(typeof refetchMs === 'number' && { refetchInterval: refetchMs }),
    ...(typeof refetchMs === 'function' && { refetchInterval: (query: Query<AnswerOf<K>>) => refetchMs(query.state.data) }),
    ...(o.enabled !== undefined && { enabled: o.enabled }),
    ...(o.keepPrevious && { placeholderData: keepPreviousData }),
  })
}

/** Makes the cache look again after a change. */
export function refresh(...keys: RouteKey[]): Promise<unknown> {
  return Promise.all(keys.map((k) => queryClient.invalidateQueries({ queryKey: [k] })))
}

/** The failure in whatever was thrown. */
export function failureIn(e: unknown): Failure {
  return e instanceof FailureError
    ? e.failure
    : { code: 'page.failed', message: e instanceof Error ? e.message : String(e), hint: 'Load the page again', where: 'web' }
}
