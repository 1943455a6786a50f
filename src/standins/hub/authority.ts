import 'reflect-metadata'
import * as x509 from '@peculiar/x509'

const P256 = { name: 'ECDSA', namedCurve: 'P-256', hash: 'SHA-256' } as const
const DAY_MS = 86_400_000

/** A certificate and its key, PEM. */
export interface Identity {
  certificate: string
  key: string
  /** SHA-256 of the certificate, lower-case hex. */
  sha256: string
}

const pemOf = (label: string, der: ArrayBuffer): string =>
  `-----BEGIN ${label}-----\n${(
    Buffer.from(der)
      .toString('base64')
      .match(/.{1,64}/g) ?? []
  ).join('\n')}\n-----END ${label}-----\n`

/** Who signs the certificates of a hub and of its units. */
export class HubAuthority {
  private constructor(
    /** PEM. */
    readonly root: string,
    private readonly key: CryptoKey,
    private readonly own: x509.X509Certificate,
  ) {}

  /** The one that was made before. */
  static async again({ certificate, key }: Pick<Identity, 'certificate' | 'key'>): Promise<HubAuthority> {
    const der = Buffer.from(key.replace(/-----[^-]+-----|\s/g, ''), 'base64')
    return new HubAuthority(certificate, await crypto.subtle.importKey('pkcs8', der, P256, true, ['sign']), new x509.X509Certificate(certificate))
  }

  static async make(name: string): Promise<HubAuthority> {
    const keys = await crypto.subtle.generateKey(P256, true, ['sign', 'verify'])
    const own = await x509.X509CertificateGenerator.createSelfSigned({
      serialNumber: '01',
      name: `CN=${name}`,
      keys,
      signingAlgorithm: P256,
      notBefore: new Date(Date.now() - DAY_MS),
      notAfter: new Date(Date.now() + 3650 * DAY_MS),
      extensions: [
        new x509.BasicConstraintsExtension(true, 0, true),
        new x509.KeyUsagesExtension(x509.KeyUsageFlags.keyCertSign | x509.KeyUsageFlags.cRLSign, true),
      ],
    })
    return new HubAuthority(pemOf('CERTIFICATE', own.rawData), keys.privateKey, own)
  }

  /** What has to be kept to be the same again. */
  async kept(): Promise<Pick<Identity, 'certificate' | 'key'>> {
    return { certificate: this.root, key: pemOf('PRIVATE KEY', await crypto.subtle.exportKey('pkcs8', this.key)) }
  }

  /** Signs for a server on this machine, or for a unit; good for so many days from `from` (epoch ms). */
  async sign(name: string, use: 'server' | 'client', days = 365, from = Date.now() - DAY_MS): Promise<Identity> {
    const keys = await crypto.subtle.generateKey(P256, true, ['sign', 'verify'])
    const names: x509.JsonGeneralNames = [
      { type: 'dns', value: 'localhost' },
      { type: 'ip', value: '127.0.0.1' },
    ]
    const { serverAuth, clientAuth } = x509.ExtendedKeyUsage
    const certificate = await x509.X509CertificateGenerator.create({
      serialNumber: Buffer.from(crypto.getRandomValues(new Uint8Array(15))).toString('hex'),
      subject: `CN=${name}`,
      issuer: this.own.subject,
      publicKey: keys.publicKey,
      signingKey: this.key,
      signingAlgorithm: P256,
      notBefore: new Date(from),
      notAfter: new Date(from + days * DAY_MS),
      extensions: [
        new x509.BasicConstraintsExtension(false),
        new x509.KeyUsagesExtension(x509.KeyUsageFlags.digitalSignature, true),
        new x509.ExtendedKeyUsageExtension([use === 'server' ? serverAuth : clientAuth]),
        ...(use === 'server' ? [new x509.SubjectAlternativeNameExtension(names)] : []),
      ],
    })
    return {
      certificate: pemOf('CERTIFICATE', certificate.rawData),
      key: pemOf('PRIVATE KEY', await crypto.subtle.exportKey('pkcs8', keys.privateKey)),
      sha256: Buffer.from(await certificate.getThumbprint('SHA-256')).toString('hex'),
    }
  }
}
