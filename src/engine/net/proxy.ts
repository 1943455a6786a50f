import { request } from 'node:http'
import { connect, type Socket } from 'node:net'
import { SocksClient } from 'socks'
import { type ProxyAt, proxyAt } from '~/contract/broker-reach'
import { type Failure, FailureError } from '~/contract/failure'
import type { OpenCredential } from '~/store/credential'
import { wordsOf } from '../log'
import { reach } from './reach'

/** A proxy, and who we are there. */
export interface ProxyAccess extends ProxyAt {
  user: string | null
  password: string | null
}

/** The proxy of some settings with its log-in opened; null: none stands between. */
export function proxyOf({ proxy }: { proxy?: string }, credential: OpenCredential | null): ProxyAccess | null {
  const at = proxyAt(proxy ?? '')
  if (!at) return null
  const login = credential?.kind === 'password' ? credential : null
  return { ...at, user: login?.user ?? null, password: login?.secret ?? null }
}

function failure(code: string, message: string, hint: string): FailureError {
  const f: Failure = { code: `proxy.${code}`, message, hint, where: 'destination' }
  return new FailureError(f, 502)
}

const named = ({ host, port }: ProxyAt) => `The proxy ${host}:${port}`

/** Octets that something else says, when it is no proxy. */
const notThis = (p: ProxyAt) =>
  failure(
    'other',
    `What answers at ${p.host}:${p.port} is no ${p.scheme === 'http' ? 'HTTP' : 'SOCKS 5'} proxy`,
    'Check its port, and http or socks5',
  )

/** Opens a way through the proxy to host and port, whose name the proxy resolves; rejects within `ms` with a failure that says why. */
export async function throughProxy(p: ProxyAccess, host: string, port: number, ms: number): Promise<Socket> {
  const socket = await dialProxy(p, ms)
  try {
    return p.scheme === 'http' ? await connectMethod(p, socket, host, port, ms) : await socks5(p, socket, host, port, ms)
  } catch (e) {
    socket.destroy()
    throw e
  }
}

function dialProxy(p: ProxyAccess, ms: number): Promise<Socket> {
  return new Promise((done, failed) => {
    const socket = connect(reach.to(p.host, p.port))
    const timer = setTimeout(() => socket.destroy(Object.assign(new Error('timed out'), { code: 'ETIMEDOUT' })), ms)
    socket.once('error', (e: NodeJS.ErrnoException) => {
      clearTimeout(timer)
      if (e instanceof FailureError) return failed(e)
      const why = e.code === 'ECONNREFUSED' ? 'nothing listens there' : e.code === 'ENOTFOUND' ? 'its name cannot be resolved' : wordsOf(e)
      failed(failure('unreachable', `${named(p)} cannot be reached: ${why}`, 'Check its host and port, and that it is running'))
    })
    socket.once('connect', () => {
      clearTimeout(timer)
      socket.removeAllListeners('error')
      socket.setNoDelay(true)
      done(socket)
    })
  })
}

const authority = (host: string, port: number) => `${host.includes(':') ? `[${host}]` : host}:${port}`

/** RFC 9110 9.3.6. */
function connectMethod(p: ProxyAccess, socket: Socket, host: string, port: number, ms: number): Promise<Socket> {
  const to = authority(host, port)
  const login = p.user === null ? {} : { 'proxy-authorization': `Basic ${Buffer.from(`${p.user}:${p.password ?? ''}`).toString('base64')}` }
  return new Promise((done, failed) => {
    const asked = request({ createConnection: () => socket, method: 'CONNECT', path: to, headers: { host: to, ...login } })
    const timer = setTimeout(() => asked.destroy(failure('silent', `${named(p)} does not answer`, 'It hangs, or is no HTTP proxy')), ms)
    asked.once('close', () => clearTimeout(timer))
    asked.once('connect', (answer, way: Socket, head: Buffer) => {
      clearTimeout(timer)
      const status = answer.statusCode ?? 0
      if (status < 200 || status > 299) {
        way.destroy()
        return failed(refusedWith(p, status, to))
      }
      // Whoever is behind it may have spoken first.
      if (head.length > 0) way.unshift(head)
      done(way)
    })
    asked.once('error', (e) => failed(e instanceof FailureError ? e : hungUp(p, e)))
    asked.end()
  })
}

function hungUp(p: ProxyAccess, e: Error): FailureError {
  const { code = '' } = e as NodeJS.ErrnoException
  return code.startsWith('HPE_')
    ? notThis(p)
    : failure('hangs-up', `${named(p)} hangs up`, `It refuses this machine, or is no ${p.scheme === 'http' ? 'HTTP' : 'SOCKS 5'} proxy`)
}

function refusedWith(p: ProxyAccess, status: number, to: string): FailureError {
  if (status === 407)
    return p.user === null
      ? failure('login-wanted', `${named(p)} wants a log-in`, 'Choose one under Proxy log-in')
      : failure('login', `${named(p)} refuses the log-in of ${p.user}`, 'Check user and password of the proxy log-in')
  if (status === 403)
    return failure('forbidden', `${named(p)} does not let this machine reach ${to}`, 'Ask who runs the proxy to permit host and port')
  if (status === 502 || status === 503 || status === 504)
    return failure('beyond', `${named(p)} cannot reach ${to}`, 'Check host and port of the broker; the proxy resolves its name')
  return failure('refused', `${named(p)} answers ${status} to the way to ${to}`, 'Ask who runs the proxy; some permit only certain ports')
}

/** RFC 1928, log-in by RFC 1929. */
async function socks5(p: ProxyAccess, socket: Socket, host: string, port: number, ms: number): Promise<Socket> {
  const login = p.user === null ? {} : { userId: p.user, password: p.password ?? '' }
  const to = authority(host, port)
  try {
    const { socket: way } = await SocksClient.createConnection({
      proxy: { host: p.host, port: p.port, type: 5, ...login },
      command: 'connect',
      destination: { host, port },
      timeout: ms,
      existing_socket: socket,
    })
    return way
  } catch (e) {
    throw socksFailure(p, to, wordsOf(e))
  }
}

function socksFailure(p: ProxyAccess, to: string, words: string): FailureError {
  if (/authentication failed/i.test(words)) return failure('login', `${named(p)} refuses the log-in`, 'Check user and password of the proxy log-in')
  if (/authentication type/i.test(words)) return failure('login-wanted', `${named(p)} wants another log-in`, 'Choose one under Proxy log-in')
  if (/NotAllowed/i.test(words))
    return failure('forbidden', `${named(p)} does not let this machine reach ${to}`, 'Ask who runs it to permit host and port')
  if (/HostUnreachable|NetworkUnreachable|ConnectionRefused|TTLExpired|rejected connection - Failure/i.test(words))
    return failure('beyond', `${named(p)} cannot reach ${to}`, 'Check host and port of the broker; the proxy resolves its name')
  if (/socket closed/i.test(words)) return hungUp(p, new Error(words))
  if (/timed out/i.test(words)) return failure('silent', `${named(p)} does not answer`, 'It hangs, or is no SOCKS proxy')
  if (/invalid socks version/i.test(words)) return notThis(p)
  return failure('refused', `${named(p)} refuses the way to ${to}: ${words.slice(0, 120)}`, 'Is it a SOCKS 5 proxy? Ask who runs it')
}
