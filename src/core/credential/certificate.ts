import 'reflect-metadata'
import * as x509 from '@peculiar/x509'
import type { CertificateFacts } from '~/contract/credential'

/** Thrown when text holds no certificate that can be read. */
export class CertificateError extends Error {}

const hex = (buffer: ArrayBuffer) => Array.from(new Uint8Array(buffer), (b) => b.toString(16).padStart(2, '0')).join('')

/** The certificates of a PEM text (RFC 7468), in its order. */
export function readChain(pem: string): x509.X509Certificate[] {
  const blocks = pem.match(/-----BEGIN CERTIFICATE-----[\s\S]*?-----END CERTIFICATE-----/g)
  if (!blocks) {
    if (/PRIVATE KEY/.test(pem)) throw new CertificateError('This is a private key, not a certificate')
    throw new CertificateError('There is no certificate here: it begins with -----BEGIN CERTIFICATE-----')
  }
  return blocks.map((block, i) => {
    try {
      return new x509.X509Certificate(block)
    } catch {
      throw new CertificateError(`Certificate ${i + 1} cannot be read: was it cut short while copying?`)
    }
  })
}

/** The revocation lists of a PEM text (RFC 5280 5), in its order. */
export function readLists(pem: string): x509.X509Crl[] {
  return (pem.match(/-----BEGIN X509 CRL-----[\s\S]*?-----END X509 CRL-----/g) ?? []).map((block, i) => {
    try {
      const list = new x509.X509Crl(block)
      if (Number.isFinite(+list.thisUpdate)) return list
    } catch {
      // Told with the others.
    }
    throw new CertificateError(`Revocation list ${i + 1} cannot be read: was it cut short while copying?`)
  })
}

/** What is worth knowing of the first certificate in a PEM text. */
export async function certificateFacts(pem: string): Promise<CertificateFacts> {
  const chain = readChain(pem)
  const first = chain[0]!
  const lists = readLists(pem)
  const names = first.getExtension(x509.SubjectAlternativeNameExtension)
  const constraints = first.getExtension(x509.BasicConstraintsExtension)
  const algorithm = first.publicKey.algorithm as { name: string; namedCurve?: string; modulusLength?: number }
  return {
    subject: first.subject,
    issuer: first.issuer,
    serial: first.serialNumber,
    notBefore: first.notBefore.toISOString(),
    notAfter: first.notAfter.toISOString(),
    sha1: hex(await first.getThumbprint('SHA-1')),
    sha256: hex(await first.getThumbprint('SHA-256')),
    names: names ? names.names.items.map((n) => n.value) : [],
    authority: constraints?.ca ?? false,
    key: algorithm.namedCurve ? `ECDSA ${algorithm.namedCurve}` : `RSA ${algorithm.modulusLength ?? ''}`.trim(),
    chain: chain.length,
    ...(lists.length > 0 && { lists: lists.map((l) => ({ issuer: l.issuer, until: l.nextUpdate?.toISOString() ?? null })) }),
  }
}
