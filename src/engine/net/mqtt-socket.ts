import { type Socket, connect as tcpConnect } from 'node:net'
import type { Duplex } from 'node:stream'
import { type TLSSocket, connect as tlsConnect } from 'node:tls'
import { createWebSocketStream, WebSocket } from 'ws'
import { FailureError } from '~/contract/failure'
import { type MqttAccess, tlsOptions } from './mqtt-access'
import { throughProxy } from './proxy'
import { reach } from './reach'

/** So long a connection may take to stand, all its stages together, ms. */
const STANDS_MS = 10_000
/** A frame of a WebSocket may be as large as a packet of MQTT. */
const FRAME_MAX = 256 << 20

const timedOut = () => Object.assign(new Error('timed out'), { code: 'ETIMEDOUT' })

/** Waits until a socket says `ready`; rejects with why it ended before. */
function standing<S extends Socket>(socket: S, ready: 'connect' | 'secureConnect', ms: number): Promise<S> {
  return new Promise((done, failed) => {
    const timer = setTimeout(() => socket.destroy(timedOut()), Math.max(1, ms))
    const settle = () => {
      clearTimeout(timer)
      socket.off('error', lost)
      socket.off('close', closed)
    }
    const lost = (e: Error) => {
      settle()
      failed(e)
    }
    const closed = () => lost(Object.assign(new Error('closed while connecting'), { code: 'ECONNRESET' }))
    socket.once('error', lost)
    socket.once('close', closed)
    socket.once(ready, () => {
      settle()
      socket.setNoDelay(true)
      done(socket)
    })
  })
}

/** The way to host and port: straight, or through the proxy. */
function openWay(a: Pick<MqttAccess, 'host' | 'port' | 'proxy'>, end: number): Promise<Socket> {
  const left = end - performance.now()
  return a.proxy ? throughProxy(a.proxy, a.host, a.port, Math.max(1, left)) : standing(tcpConnect(reach.to(a.host, a.port)), 'connect', left)
}

/** Opens the socket, through TLS when asked for, before anything of MQTT or the web is said; rejects after ten seconds. */
export async function openSocket(a: MqttAccess, end = performance.now() + STANDS_MS): Promise<Socket | TLSSocket> {
  if (!a.tls) return openWay(a, end)
  if (!a.proxy) return standing(tlsConnect({ ...tlsOptions(a), ...reach.to(a.host, a.port) }), 'secureConnect', end - performance.now())
  const way = await openWay(a, end)
  const { host: _host, port: _port, ...tls } = tlsOptions(a)
  // Whom the certificate is for is held against the broker's name, not the proxy's.
  return standing(tlsConnect({ ...tls, socket: way, host: a.host }), 'secureConnect', end - performance.now())
}

/** Opens what packets of MQTT go over: a socket, or a WebSocket on it (MQTT 5 6). */
export async function openWire(a: MqttAccess): Promise<Duplex> {
  const end = performance.now() + STANDS_MS
  const socket = await openSocket(a, end)
  return a.transport === 'websocket' ? openWebSocket(a, socket, end) : socket
}

function openWebSocket(a: MqttAccess, socket: Socket, end: number): Promise<Duplex> {
  const host = a.host.includes(':') ? `[${a.host}]` : a.host
  // The socket has done what wss would: all that goes over it is protected already.
  const ws = new WebSocket(`ws://${host}:${a.port}${a.path}`, ['mqtt'], {
    createConnection: () => socket,
    headers: a.headers,
    perMessageDeflate: false,
    maxPayload: FRAME_MAX,
    handshakeTimeout: Math.max(1, Math.ceil(end - performance.now())),
    followRedirects: false,
  })
  return new Promise((done, failed) => {
    const no = (e: unknown) => {
      socket.destroy()
      failed(e)
    }
    ws.once('unexpected-response', (_, answer) => no(answered(a, answer.statusCode ?? 0)))
    ws.once('error', (e) => no(handshakeFailure(a, e)))
    ws.once('open', () => {
      ws.removeAllListeners('error')
      done(createWebSocketStream(ws))
    })
  })
}

function answered({ host, port, path }: MqttAccess, status: number): FailureError {
  const at = `${host}:${port}${path}`
  const [message, hint] =
    status === 404
      ? [`There is nothing at ${at}`, 'Check the path: brokers take WebSockets at one, often /mqtt']
      : status === 401 || status === 403
        ? [`The server does not let a WebSocket in at ${at}: ${status}`, 'It may want a header, or another log-in']
        : [`The server answers ${status} to the WebSocket request at ${at}`, 'Check the path, and that the broker takes WebSockets there']
  return new FailureError({ code: 'websocket.refused', message, hint, where: 'destination' }, 502)
}

function handshakeFailure({ host, port }: MqttAccess, e: Error): unknown {
  if (/subprotocol/i.test(e.message))
    return new FailureError(
      {
        code: 'websocket.no-mqtt',
        message: `What takes WebSockets at ${host}:${port} does not speak MQTT over them`,
        hint: 'Check the path: another service may have it',
        where: 'destination',
      },
      502,
    )
  if (/timed out/i.test(e.message)) return timedOut()
  if ((e as NodeJS.ErrnoException).code?.startsWith('HPE_') || /Parse Error|Invalid (?:Upgrade|Sec-WebSocket)/i.test(e.message))
    return new FailureError(
      {
        code: 'websocket.other',
        message: `What answers at ${host}:${port} takes no WebSockets`,
        hint: 'Check the port: it may be the one for plain MQTT',
        where: 'destination',
      },
      502,
    )
  return e
}

/** Whether what listens there shakes hands in TLS, whoever it is. */
export async function speaksTls(a: Pick<MqttAccess, 'host' | 'port' | 'proxy'>): Promise<boolean> {
  const end = performance.now() + 3000
  const way = await openWay(a, end).catch(() => null)
  if (!way) return false
  return new Promise((done) => {
    const socket = tlsConnect({ socket: way, rejectUnauthorized: false })
    const over = (spoke: boolean) => {
      clearTimeout(timer)
      socket.destroy()
      done(spoke)
    }
    const timer = setTimeout(() => over(false), Math.max(1, end - performance.now()))
    socket.once('secureConnect', () => over(true))
    // An alert is TLS too: a wanted certificate, a version that is too old.
    socket.once('error', (e: { code?: string }) => over(/^ERR_SSL_.*ALERT/.test(e.code ?? '')))
    socket.once('close', () => over(false))
  })
}

/** Shakes hands and says by what, with whom, and how long its certificate is still good. */
export async function tlsFacts(a: MqttAccess): Promise<string> {
  if (!a.tls) return 'switched off: anybody in between can read and change messages'
  const socket = (await openSocket(a)) as TLSSocket
  const certificate = socket.getPeerCertificate()
  const version = socket.getProtocol()
  socket.destroy()
  const days = Math.floor((Date.parse(certificate.valid_to) - Date.now()) / 86_400_000)
  return `${version}; ${certificate.subject?.CN ?? 'the broker'}, signed by ${certificate.issuer?.CN ?? '?'}, ${days} days left`
}
