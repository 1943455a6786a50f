import type { ConnectionOptions } from 'node:tls'
import { headerLines, type ReachTerms } from '~/contract/broker-reach'
import type { OpenCredential } from '~/store/credential'
import { trusted } from './peer-certificate'
import { type ProxyAccess, proxyOf } from './proxy'

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
  transport: 'tcp' | 'websocket'
  /** Of WebSockets. */
  path: string
  headers: Readonly<Record<string, string>>
  proxy: ProxyAccess | null
}

type Settings = Partial<ReachTerms> & { host: string; port: number; protocol: '5' | '3.1.1'; tls: boolean; keepAliveS: number }

/** The credentials of some settings, opened. */
export interface MqttCredentials {
  authority: OpenCredential | null
  credential: OpenCredential | null
  proxy: OpenCredential | null
}

/** Puts settings and opened credentials together. */
export function accessOf(s: Settings, { authority, credential, proxy }: MqttCredentials, clientId: string): MqttAccess {
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
    // In 3.1.1 a password needs a user (3.1.2.9), were it an empty one.
    user: password ? credential.user || (s.protocol === '5' ? null : '') : null,
    password: password ? credential.secret : null,
    clientId,
    keepAliveS: s.keepAliveS,
    transport: s.transport ?? 'tcp',
    path: s.path ?? '/mqtt',
    headers: s.transport === 'websocket' ? (headerLines(s.headers ?? '') ?? {}) : {},
    proxy: proxyOf(s, proxy),
  }
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
