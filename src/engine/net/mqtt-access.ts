import { type Socket, connect as tcpConnect } from 'node:net'
import { type ConnectionOptions, type TLSSocket, connect as tlsConnect } from 'node:tls'
import { type Failure, FailureError } from '~/contract/failure'
import type { OpenCredential } from '~/store/credential'
import { wordsOf } from '../log'
import { certificateFailure, trusted } from './peer-certificate'
import { reach } from './reach'

/** Where and as whom to connect to a broker; secrets opened, so never logged. */
export interface MqttAccess {
  host: string
  port: number
  protocol: '5' | '3.1.1'
  tls: boolean
  ca: string | null
  cert: string | null
  key: string | null
  user: string | null
  password: string | null
  clientId: string
  keepAliveS: number
}

/** Puts settings and opened credentials together. */
export function accessOf(
  s: { host: string; port: number; protocol: '5' | '3.1.1'; tls: boolean; keepAliveS: number },
  authority: OpenCredential | null,
  credential: OpenCredential | null,
  clientId: string,
): MqttAccess {
  const certificate = credential?.kind === 'certificate'
  const password = credential?.kind === 'password'
  return {
    host: s.host,
    port: s.port,
    protocol: s.protocol,
    tls: s.tls,
    ca: authority?.certificate ?? null,
    cert: certificate ? credential.certificate : null,
    key: certificate ? credential.secret : null,
    user: password ? credential.user : null,
    password: password ? credential.secret : null,
    clientId,
    keepAliveS: s.keepAliveS,
  }
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

/** Whether what listens there shakes hands in TLS, whoever it is. */
export function speaksTls(host: string, port: number): Promise<boolean> {
  return new Promise((done) => {
    const socket = tlsConnect({ ...reach.to(host, port), rejectUnauthorized: false })
    const end = (spoke: boolean) => {
      clearTimeout(timer)
      socket.destroy()
      done(spoke)
    }
    const timer = setTimeout(() => end(false), 3000)
    socket.once('secureConnect', () => end(true))
    // An alert is TLS too: a wanted certificate, a version that is too old.
    socket.once('error', (e: { code?: string }) => end(/^ERR_SSL_.*ALERT/.test(e.code ?? '')))
    socket.once('close', () => end(false))
  })
}

/** Host, port and certificates, as Node's TLS and the MQTT client take them. */
export function tlsOptions(a: MqttAccess): Pick<ConnectionOptions, 'host' | 'port' | 'ca' | 'crl' | 'cert' | 'key' | 'servername'> {
  return {
    host: a.host,
    port: a.port,
    ...trusted(a.ca),
    ...(a.cert && a.key && { cert: a.cert, key: a.key }),
    ...(/^[\d.]+$|:/.test(a.host) ? {} : { servername: a.host }),
  }
}

/** Opens the socket, through TLS when asked for; rejects after ten seconds. */
export function openSocket(a: MqttAccess): Promise<Socket | TLSSocket> {
  return new Promise((done, failed) => {
    const to = reach.to(a.host, a.port)
    const socket = a.tls ? tlsConnect({ ...tlsOptions(a), ...to }) : tcpConnect(to)
    const timer = setTimeout(() => socket.destroy(Object.assign(new Error('timed out'), { code: 'ETIMEDOUT' })), 10_000)
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
    socket.once(a.tls ? 'secureConnect' : 'connect', () => {
      settle()
      socket.setNoDelay(true)
      done(socket)
    })
  })
}

/** Puts what sockets and TLS throw into words with what to do. */
export function mqttFailure(e: unknown, a: Pick<MqttAccess, 'host' | 'port' | 'cert'>, where: Failure['where'] = 'destination'): Failure {
  if (e instanceof FailureError) return { ...e.failure, where }
  const certificate = certificateFailure(e, a.host, where)
  if (certificate) return certificate
  const code = (e as { code?: string }).code ?? ''
  const words = wordsOf(e)
  const known: Record<string, [string, string, string]> = {
    ECONNREFUSED: ['port.refused', `Nothing listens on port ${a.port} of ${a.host}`, 'Check the port, and that the broker is running'],
    ENOTFOUND: ['name.unknown', `The name ${a.host} cannot be resolved`, 'Check the spelling, or use the IP address'],
    ETIMEDOUT: ['port.silent', `No answer from ${a.host}:${a.port}`, 'A firewall may be in between'],
    ERR_SSL_WRONG_VERSION_NUMBER: ['tls.none', 'The port does not speak TLS', 'Switch TLS off, or take the TLS port (often 8883)'],
    EPROTO: ['tls.none', 'The port does not speak TLS as expected', 'Check port and TLS'],
    EPROTOCOL: [
      'mqtt.other',
      `What answers at ${a.host}:${a.port} is no MQTT broker, or wants TLS`,
      'Check the port: 8883 is usual for TLS, 1883 for plain',
    ],
    ENOGREETING: [
      'mqtt.no-greeting',
      `${a.host}:${a.port} takes the connection and does not greet`,
      'It may be no MQTT broker, want TLS, or hang: look there',
    ],
    ESILENT: [
      'mqtt.silent',
      `Nothing has been heard from ${a.host} for too long`,
      'The link is dead in one or both directions; Embrik connects anew',
    ],
    ENOSUBACK: ['mqtt.no-suback', 'The broker does not answer to a subscription', 'It is overloaded, or hangs; Embrik connects anew'],
    ERR_SSL_TLSV13_ALERT_CERTIFICATE_REQUIRED: [
      'tls.client-certificate',
      'The broker wants a client certificate',
      'Choose one under Certificate or log-in',
    ],
    ERR_SSL_SSLV3_ALERT_HANDSHAKE_FAILURE: ['tls.client-certificate', 'The broker ends the handshake', 'It most likely wants a client certificate'],
    ERR_SSL_SSLV3_ALERT_BAD_CERTIFICATE: [
      'tls.client-certificate',
      'The broker does not accept the client certificate',
      'Choose the one made for it',
    ],
    ERR_SSL_TLSV1_ALERT_UNKNOWN_CA: [
      'tls.client-certificate',
      'The broker does not know who signed the client certificate',
      'Choose one that its authority signed',
    ],
  }
  const hit = known[code]
  if (hit) return { code: hit[0], message: hit[1], hint: hit[2], where }
  if (code === 'ECONNRESET' || code === 'EPIPE' || /closed/i.test(words))
    return {
      code: 'mqtt.reset',
      message: 'The broker hung up',
      hint: a.cert
        ? 'Under TLS 1.3 a refused client certificate shows only as this; else the link was cut'
        : 'The link was cut, or the port wants TLS or a client certificate',
      where,
    }
  return { code: 'mqtt.failed', message: words.slice(0, 200), hint: 'Check the connection step by step', where }
}
