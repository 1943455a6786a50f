import 'reflect-metadata'
import * as x509 from '@peculiar/x509'
import { isAddress } from './intake/host'
import { pemOf } from './intake/pem'

const DAY_MS = 86_400_000
/** Browsers take no server certificate for longer (CA/Browser Forum, baseline requirements 6.3.2). */
const DAYS = 397

/** A certificate of a web server that nobody else has signed: EC P-256, for these names and addresses. PEM. */
export async function makeServerCertificate(names: readonly string[], now = Date.now()): Promise<{ certificate: string; key: string }> {
  const algorithm = { name: 'ECDSA', namedCurve: 'P-256', hash: 'SHA-256' }
  const keys = await crypto.subtle.generateKey(algorithm, true, ['sign', 'verify'])
  const certificate = await x509.X509CertificateGenerator.createSelfSigned({
    serialNumber: [...crypto.getRandomValues(new Uint8Array(9))].map((b) => (b & 0x7f).toString(16).padStart(2, '0')).join(''),
    name: 'CN=Embrik',
    notBefore: new Date(now - DAY_MS),
    notAfter: new Date(now + (DAYS - 2) * DAY_MS),
    signingAlgorithm: algorithm,
    keys,
    extensions: [
      new x509.BasicConstraintsExtension(false, undefined, true),
      new x509.KeyUsagesExtension(x509.KeyUsageFlags.digitalSignature, true),
      new x509.ExtendedKeyUsageExtension([x509.ExtendedKeyUsage.serverAuth]),
      new x509.SubjectAlternativeNameExtension(names.map((value) => ({ type: isAddress(value) ? ('ip' as const) : ('dns' as const), value }))),
      await x509.SubjectKeyIdentifierExtension.create(keys.publicKey),
    ],
  })
  const key = pemOf('PRIVATE KEY', new Uint8Array(await crypto.subtle.exportKey('pkcs8', keys.privateKey)))
  return { certificate: `${certificate.toString('pem')}\n`, key }
}
