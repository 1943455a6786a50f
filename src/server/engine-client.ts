import { type Failure, FailureError, fail } from '~/contract/failure'

const url = () => process.env.EMBRIK_ENGINE_URL ?? `http://127.0.0.1:${Number(process.env.EMBRIK_PORT_BASE ?? 4600) + 1}`

/** Asks the engine; the caller's signal ends the request there too. Throws a FailureError when it is away or says no. */
export async function askEngine(path: string, o: { body?: unknown; signal?: AbortSignal } = {}): Promise<Response> {
  let response: Response
  try {
    response = await fetch(`${url()}${path}`, {
      method: o.body === undefined ? 'GET' : 'POST',
      headers: { 'x-embrik-secret': process.env.EMBRIK_ENGINE_SECRET ?? '', ...(o.body !== undefined && { 'content-type': 'application/json' }) },
      ...(o.body !== undefined && { body: JSON.stringify(o.body) }),
      ...(o.signal && { signal: o.signal }),
    })
  } catch {
    throw engineAway()
  }
  if (response.ok) return response
  const failure = (await response.json().catch(() => null)) as Failure | null
  if (!failure?.code) throw engineAway()
  throw new FailureError(failure, response.status)
}

function engineAway(): FailureError {
  return fail(503, 'engine.away', 'The engine does not answer', 'It is started again by itself; if this stays, look at its log', 'engine')
}
