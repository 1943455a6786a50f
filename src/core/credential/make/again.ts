import 'reflect-metadata'
import * as x509 from '@peculiar/x509'
import type { KeyKind } from '~/contract/make'
import type { Leaf } from './issue'

const DAY_MS = 86_400_000

/** What a certificate was made as, so that its successor is made alike: for whom, for what, for how long. */
export function madeAs(pem: string): Leaf & { days: number } {
  const certificate = new x509.X509Certificate(pem)
  const name = certificate.subjectName
  const usages: string[] = certificate.getExtension(x509.ExtendedKeyUsageExtension)?.usages.map(String) ?? []
  const [server, client] = [x509.ExtendedKeyUsage.serverAuth, x509.ExtendedKeyUsage.clientAuth].map((use) => usages.includes(use))
  const names = certificate.getExtension(x509.SubjectAlternativeNameExtension)?.names.items ?? []
  return {
    commonName: name.getField('CN')[0] ?? '',
    organization: name.getField('O')[0] ?? '',
    key: keyOf(certificate),
    use: server && client ? 'both' : server ? 'server' : 'client',
    hosts: names.filter((n) => n.type === 'dns' || n.type === 'ip').map((n) => n.value),
    days: Math.max(1, Math.round((+certificate.notAfter - +certificate.notBefore) / DAY_MS)),
  }
}

function keyOf(certificate: x509.X509Certificate): KeyKind {
  const { namedCurve, modulusLength = 0 } = certificate.publicKey.algorithm as { namedCurve?: string; modulusLength?: number }
  if (namedCurve) return namedCurve === 'P-384' ? 'P-384' : 'P-256'
  return modulusLength > 3072 ? 'RSA 4096' : modulusLength > 2048 ? 'RSA 3072' : 'RSA 2048'
}
