import { connect as connectTls, type SecureContextOptions } from 'node:tls'
import { trusted } from './peer-certificate'
import { reach } from './reach'

const ANSWER_MS = 8000

/** The greeting of TLS, and whose certificate it is; rejects with the error of the socket. */
export function tlsGreeting(
  host: string,
  port: number,
  authority: string | null,
  tls: SecureContextOptions = {},
): Promise<{ detail: string; facts: Record<string, string> }> {
  return new Promise((done, failed) => {
    const socket = connectTls({
      ...reach.to(host, port),
      ...trusted(authority),
      ...tls,
      servername: /^[\d.]+$|:/.test(host) ? '' : host,
      ALPNProtocols: ['http/1.1'],
    })
    socket.setTimeout(ANSWER_MS, () => socket.destroy(Object.assign(new Error('no answer in time'), { code: 'ETIMEDOUT' })))
    socket.once('error', failed)
    socket.once('secureConnect', () => {
      const { subject, valid_to } = socket.getPeerCertificate()
      const name = subject && 'CN' in subject ? String(subject.CN) : host
      done({
        detail: `${socket.getProtocol()}, certificate of ${name}, valid to ${valid_to}`,
        facts: { protocol: socket.getProtocol() ?? '', validTo: valid_to },
      })
      socket.destroy()
    })
  })
}
