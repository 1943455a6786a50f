import { webAddress } from '~/contract/destinations/http'
import { type Failure, FailureError, fail } from '~/contract/failure'
import type { NeededSchema, RegisteredSchema } from '~/core/publication/registered'
import type { Clock } from '../../clock/clock'
import { trusted } from '../../net/peer-certificate'
import { Web, type WebAnswer } from '../../net/web'
import { failureOfWeb } from '../../net/web-failure'
import type { StreamTarget } from './access'

const ANSWER_MS = 8000
const ANSWER_MOST = 1 << 20
const FORM = 'application/vnd.schemaregistry.v1+json'

/** Asks a schema registry by its REST interface. */
class Registry {
  private readonly web: Web
  private readonly base: URL
  private readonly headers: Record<string, string>

  constructor({ settings: s, more }: StreamTarget, clock: Clock) {
    const url = webAddress(s.registryUrl)
    if (!url) throw fail(422, 'schemas.none', 'The destination names no schema registry', 'Name it in the destination', 'destination')
    const login = more?.registryCredentialId
    const authority = more?.registryAuthorityId?.certificate
    this.base = url
    this.web = new Web({ tls: authority ? trusted(authority) : null, answerMs: ANSWER_MS, parallel: 1 }, clock)
    this.headers = {
      accept: `${FORM}, application/json`,
      ...(login && { authorization: `Basic ${Buffer.from(`${login.user ?? ''}:${login.secret ?? ''}`).toString('base64')}` }),
    }
  }

  async ask(method: 'GET' | 'POST', path: string, what: string, body: object | null = null): Promise<unknown> {
    const url = new URL(`${this.base.origin}${this.base.pathname.replace(/\/$/, '')}${path}`)
    const octets = body && Buffer.from(JSON.stringify(body))
    const headers = { ...this.headers, ...(octets && { 'content-type': FORM }) }
    let answer: WebAnswer
    try {
      answer = await this.web.send({ method, url, headers, body: octets, most: ANSWER_MOST })
    } catch (e) {
      throw new FailureError(failureOfWeb(e, url), 502)
    }
    return said(answer, what, url)
  }

  close(): void {
    this.web.close()
  }
}

/** What an answer holds; throws what it refuses, in words. */
function said({ status, body }: WebAnswer, what: string, url: URL): unknown {
  const read = json(body)
  const reason = String((read as { message?: unknown } | null)?.message ?? '').slice(0, 500)
  const no = (code: string, words: string, hint: string) =>
    new FailureError(
      { code: `schemas.${code}`, message: `${what}: ${words}${reason ? `: ${reason}` : ''}`, hint, where: 'destination' } satisfies Failure,
      502,
    )
  if (status === 200) {
    if (read === null) throw no('form', `${url.host} does not answer as a schema registry does`, 'Check the address of the registry')
    return read
  }
  if (status === 401) throw no('login', 'the registry does not know the log-in', 'Check the registry log-in of the destination')
  if (status === 403) throw no('not-allowed', 'the registry does not allow it', 'Have the log-in allowed to register schemas there')
  if (status === 409)
    throw no(
      'incompatible',
      'the registry says that readers of the schema before cannot read it',
      'Take another subject, or have the registry allow the change',
    )
  if (status === 422) throw no('invalid', 'the registry does not take the schema', 'Does it know this kind of schema?')
  if (status === 404 || status === 405) throw no('form', `there is no schema registry at ${url.host}`, 'Check the address of the registry')
  throw no(
    'failed',
    `the registry answered ${status}`,
    status >= 500 ? 'Try again; look at its log if it stays' : 'Check the address of the registry',
  )
}

function json(octets: Buffer): unknown {
  try {
    return JSON.parse(octets.toString('utf8')) as unknown
  } catch {
    return null
  }
}

async function within<T>(target: StreamTarget, clock: Clock, work: (registry: Registry) => Promise<T>): Promise<T> {
  const registry = new Registry(target, clock)
  try {
    return await work(registry)
  } finally {
    registry.close()
  }
}

/** Has a registry know schemas, each under its subject; gives their numbers. One that it knows already has the number that it had. */
export const registerSchemas = (target: StreamTarget, needed: readonly NeededSchema[], clock: Clock): Promise<RegisteredSchema[]> =>
  within(target, clock, async (registry) => {
    const out: RegisteredSchema[] = []
    for (const { subject, type, schema } of needed) {
      const body = { schema, ...(type !== 'AVRO' && { schemaType: type }) }
      const answer = await registry.ask('POST', `/subjects/${encodeURIComponent(subject)}/versions`, subject, body)
      const id = (answer as { id?: unknown }).id
      if (!Number.isInteger(id) || (id as number) < 0 || (id as number) > 2 ** 31 - 1)
        throw fail(502, 'schemas.form', `${subject}: the registry gave no number`, 'Check the address of the registry', 'destination')
      out.push({ subject, schema, id: id as number })
    }
    return out
  })

/** Whether a registry is there and knows us. */
export const askSchemas = (target: StreamTarget, clock: Clock): Promise<string> =>
  within(target, clock, async (registry) => {
    const list = await registry.ask('GET', '/subjects', 'Schema registry')
    if (!Array.isArray(list))
      throw fail(502, 'schemas.form', 'It does not answer as a schema registry does', 'Check the address of the registry', 'destination')
    return `keeps schemas under ${list.length} ${list.length === 1 ? 'subject' : 'subjects'}`
  })
