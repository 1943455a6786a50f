import { X509Certificate } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { hostname } from 'node:os'
import { join } from 'node:path'
import { makeServerCertificate } from '~/core/credential/self-signed'
import { proxyHops } from './address'

type Env = Record<string, string | undefined>

/** A certificate made here is made anew so long before its end, ms. */
const RENEW_MS = 30 * 86_400_000

const LOOPBACK = ['localhost', '127.0.0.1', '::1']

/**
 * Host names that requests may come under; null: any. Told by EMBRIK_HOSTS, parted by commas. A server that only this machine
 * reaches answers to loopback names alone, so that no page of another site reaches it under a name of its own.
 */
export function hostNames(env: Env): ReadonlySet<string> | null {
  const told = (env.EMBRIK_HOSTS ?? '')
    .split(',')
    .map((h) => h.trim().toLowerCase())
    .filter(Boolean)
  const listens = env.EMBRIK_HOST ?? '127.0.0.1'
  if (told.length === 0 && (proxyHops(env) > 0 || !LOOPBACK.includes(listens))) return null
  return new Set([...told, ...LOOPBACK])
}

/** Whether a request for this Host (RFC 9110 7.2) is meant for this server. */
export function answersTo(names: ReadonlySet<string> | null, host: string | undefined): boolean {
  if (names === null) return true
  const name = /^(\[[^\]]+\]|[^:]*)(?::\d+)?$/.exec((host ?? '').trim().toLowerCase())?.[1]
  return name !== undefined && names.has(name.replace(/^\[|\]$/g, ''))
}

/** Whether the certificate still holds for a while, and for these names. */
function usable(certificate: string, names: readonly string[]): boolean {
  try {
    const read = new X509Certificate(certificate)
    const enough = Date.parse(read.validTo) - Date.now() > RENEW_MS
    return enough && names.every((n) => (/^[\d.]+$|:/.test(n) ? read.checkIP(n) : read.checkHost(n)) !== undefined)
  } catch {
    return false
  }
}

/**
 * Certificate and key to serve HTTPS with; null: plain HTTP. `EMBRIK_TLS_CERT` and `EMBRIK_TLS_KEY` name PEM files;
 * `EMBRIK_TLS=own` has one made, which lies under EMBRIK_HOME and is made anew before it ends.
 */
export async function serverCertificate(env: Env): Promise<{ cert: string; key: string; own: string | null } | null> {
  const { EMBRIK_TLS_CERT: certFile, EMBRIK_TLS_KEY: keyFile, EMBRIK_TLS: how } = env
  if (certFile || keyFile) {
    if (!certFile || !keyFile) throw new Error('EMBRIK_TLS_CERT and EMBRIK_TLS_KEY belong together: set both')
    const [cert, key] = [readFileSync(certFile, 'utf8'), readFileSync(keyFile, 'utf8')]
    return { cert, key, own: null }
  }
  if (!how) return null
  if (how !== 'own') throw new Error(`EMBRIK_TLS is "${how}": it can be "own", or left out`)
  const folder = join(env.EMBRIK_HOME ?? '.embrik', 'tls')
  const files = { cert: join(folder, 'certificate.pem'), key: join(folder, 'key.pem') }
  const names = [
    ...new Set([
      ...(env.EMBRIK_HOSTS ?? '')
        .split(',')
        .map((h) => h.trim())
        .filter(Boolean),
      hostname(),
      ...LOOPBACK,
    ]),
  ]
  if (!existsSync(files.cert) || !existsSync(files.key) || !usable(readFileSync(files.cert, 'utf8'), names)) {
    const made = await makeServerCertificate(names)
    mkdirSync(folder, { recursive: true, mode: 0o700 })
    writeFileSync(files.key, made.key, { mode: 0o600 })
    writeFileSync(files.cert, made.certificate, { mode: 0o600 })
  }
  return { cert: readFileSync(files.cert, 'utf8'), key: readFileSync(files.key, 'utf8'), own: files.cert }
}
