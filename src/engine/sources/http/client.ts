import { request as plainRequest } from 'node:http'
import { request as tlsRequest } from 'node:https'
import { type Failure, FailureError, fail } from '~/contract/failure'
import { headersOf } from '~/contract/sources/http'
import type { PeerTime } from '~/core/proof/peer-time'
import { parseJson, textOf } from '~/core/source/payload'
import { wordsOf } from '../../log'
import { toldBy } from '../../net/date-header'
import { certificateFailure, trusted } from '../../net/peer-certificate'
import { reach } from '../../net/reach'
import { portFailure } from '../../net/steps'
import type { SourceTarget } from '../driver'

export type HttpTarget = SourceTarget<'http'>

/** A larger document is none of a device. */
const BODY_MAX = 8 << 20

export function placeOf(url: string): { host: string; port: number; tls: boolean } {
  const u = new URL(url)
  return { host: u.hostname.replace(/^\[|\]$/g, ''), port: Number(u.port) || (u.protocol === 'https:' ? 443 : 80), tls: u.protocol === 'https:' }
}

export interface Answer {
  status: number
  type: string
  document: unknown
  bytes: number
  /** What the server told of its time; null: nothing. */
  told: PeerTime | null
}

/** GETs the document; rejects with a FailureError when the answer is none, or with what the socket threw. Redirects are not followed. */
export async function getDocument(target: HttpTarget): Promise<Answer> {
  const { settings, password, authority } = target
  const { tls, host, port } = placeOf(settings.url)
  const { lookup } = reach.to(host, port)
  const login =
    settings.login === 'basic'
      ? { authorization: `Basic ${Buffer.from(`${settings.user}:${password ?? ''}`).toString('base64')}` }
      : settings.login === 'bearer'
        ? { authorization: `Bearer ${password ?? ''}` }
        : {}
  const asked = Date.now()
  const began = performance.now()
  const { status, type, body, told } = await new Promise<{ status: number; type: string; body: Buffer; told: PeerTime | null }>((done, failed) => {
    const req = (tls ? tlsRequest : plainRequest)(
      settings.url,
      {
        method: 'GET',
        headers: { accept: 'application/json', ...headersOf(settings.headers), ...login },
        agent: false,
        lookup,
        ...(tls && trusted(authority?.certificate)),
      },
      (res) => {
        const told = toldBy(res.headers.date, asked, performance.now() - began)
        const chunks: Buffer[] = []
        let size = 0
        res.on('data', (chunk: Buffer) => {
          size += chunk.length
          chunks.push(chunk)
          if (size > BODY_MAX)
            req.destroy(fail(502, 'http.large', `The answer is larger than ${BODY_MAX >> 20} MB`, 'Ask for less in the URL', 'source'))
        })
        res.on('end', () => done({ status: res.statusCode ?? 0, type: String(res.headers['content-type'] ?? ''), body: Buffer.concat(chunks), told }))
        res.on('error', failed)
      },
    )
    // Over all, not only between two octets: a server that trickles must not hold the source up.
    const timer = setTimeout(() => req.destroy(Object.assign(new Error('no answer in time'), { code: 'ETIMEDOUT' })), settings.timeoutMs)
    req.on('close', () => clearTimeout(timer))
    req.on('error', failed)
    req.end()
  })
  if (status === 401 || status === 403)
    throw fail(502, 'http.log-in', `The server answers ${status}: it does not let us in`, 'Check the log-in, and what it may read', 'source')
  if (status >= 300 && status < 400)
    throw fail(502, 'http.elsewhere', `The server answers ${status}: the document is elsewhere`, 'Take the URL that it names', 'source')
  if (status === 404) throw fail(502, 'http.unknown', 'The server answers 404: there is nothing at this path', 'Check the path of the URL', 'source')
  if (status === 429) throw fail(502, 'http.often', 'The server answers 429: asked too often', 'Make the update rate slower', 'source')
  if (status !== 200)
    throw fail(
      502,
      `http.status-${status}`,
      `The server answers ${status}`,
      status >= 500 ? 'It has trouble of its own: try later' : 'Check the URL',
      'source',
    )
  const text = textOf(body)
  try {
    if (text === null) throw new Error('it is not UTF-8')
    return { status, type, document: parseJson(text), bytes: body.length, told }
  } catch (e) {
    throw fail(
      502,
      'http.json',
      `The answer (${type || 'no type'}, ${body.length} bytes) is not JSON: ${wordsOf(e).slice(0, 120)}`,
      'Check the URL: it must answer with JSON',
      'source',
    )
  }
}

export function httpFailure(e: unknown, target: HttpTarget): Failure {
  if (e instanceof FailureError) return e.failure
  const { host, port } = placeOf(target.settings.url)
  const code = (e as { code?: string }).code ?? ''
  if (code === 'ENOTFOUND' || code === 'EAI_AGAIN')
    return {
      code: 'name.unknown',
      message: `The name ${host} cannot be resolved`,
      hint: 'Check the spelling, or use the IP address',
      where: 'source',
    }
  if (code === 'ETIMEDOUT')
    return {
      code: 'http.silent',
      message: `No answer within ${target.settings.timeoutMs} ms`,
      hint: 'The server is slow or away; give it more time, or look there',
      where: 'source',
    }
  const certificate = certificateFailure(e, host, 'source')
  if (certificate) return certificate
  if (/CERT|SELF_SIGNED|UNABLE_TO/.test(code))
    return {
      code: 'tls.authority',
      message: `The server's certificate is not accepted: ${wordsOf(e).slice(0, 120)}`,
      hint: 'Choose the authority that signed it',
      where: 'source',
    }
  if (code === 'EPROTO' || code === 'ERR_SSL_WRONG_VERSION_NUMBER')
    return { code: 'tls.none', message: 'The port does not speak TLS', hint: 'Try http:// in the URL', where: 'source' }
  return portFailure(e, host, port, 'source')
}
