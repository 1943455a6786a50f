import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

/** Keys, certificates and stores as other people make them: by openssl, in a folder of their own. */
export class Maker {
  readonly folder = mkdtempSync(join(tmpdir(), 'embrik-kits-'))

  at = (name: string) => join(this.folder, name)
  read = (name: string) => new Uint8Array(readFileSync(this.at(name)))
  text = (name: string) => readFileSync(this.at(name), 'utf8')

  write(name: string, content: string | Uint8Array): string {
    writeFileSync(this.at(name), content)
    return this.at(name)
  }

  openssl(...args: string[]): void {
    // Libraries under test may have set what openssl itself is configured by.
    const { OPENSSL_CONF: _, ...env } = process.env
    execFileSync('openssl', args, { cwd: this.folder, env, stdio: ['ignore', 'pipe', 'pipe'] })
  }

  /** A key and a certificate for it, signed by `by` or by itself: NAME.key and NAME.crt. */
  certificate(name: string, o: { by?: string; key?: string[]; extensions?: string; days?: number; digest?: string } = {}): void {
    const {
      by,
      key = ['-algorithm', 'EC', '-pkeyopt', 'ec_paramgen_curve:P-256'],
      extensions = 'basicConstraints=CA:FALSE',
      days = 400,
      digest = 'sha256',
    } = o
    this.openssl('genpkey', ...key, '-out', `${name}.key`)
    this.openssl('req', '-new', '-key', `${name}.key`, '-subj', `/O=Varnmoor Clayworks/CN=${name}`, '-out', `${name}.csr`)
    this.write(`${name}.ext`, `subjectKeyIdentifier=hash\nauthorityKeyIdentifier=keyid\n${extensions}\n`)
    const signer = by ? ['-CA', `${by}.crt`, '-CAkey', `${by}.key`, '-CAcreateserial'] : ['-signkey', `${name}.key`]
    this.openssl(
      'x509',
      '-req',
      '-in',
      `${name}.csr`,
      ...signer,
      '-days',
      String(days),
      `-${digest}`,
      '-extfile',
      `${name}.ext`,
      '-out',
      `${name}.crt`,
    )
  }

  /** The revocation list of an authority: NAME.crl. */
  revocations(name: string, o: { of?: string[]; days?: number } = {}): void {
    const { of = [], days = 30 } = o
    this.write(`${name}.index`, '')
    this.write(`${name}.cnf`, `[ca]\ndefault_ca=d\n[d]\ndatabase=${name}.index\ndefault_md=sha256\ndefault_crl_days=30\n`)
    const signed = ['-config', `${name}.cnf`, '-keyfile', `${name}.key`, '-cert', `${name}.crt`]
    for (const one of of) this.openssl('ca', ...signed, '-revoke', `${one}.crt`)
    const from = new Date(Date.now() - 60 * 86_400_000)
    const until = new Date(Date.now() + days * 86_400_000)
    const time = (at: Date) => at.toISOString().replace(/[-:T]|\.\d+/g, '')
    this.openssl('ca', ...signed, '-gencrl', '-crl_lastupdate', time(from), '-crl_nextupdate', time(until), '-out', `${name}.crl`)
  }
}

const AUTHORITY = 'basicConstraints=critical,CA:TRUE\nkeyUsage=critical,keyCertSign,cRLSign'
const DEVICE = 'basicConstraints=CA:FALSE\nkeyUsage=digitalSignature\nextendedKeyUsage=clientAuth'

/** What a plant's receiver hands over: a root, one between, a device (elliptic curve and RSA), a server. */
export function plantKit(): Maker {
  const m = new Maker()
  m.certificate('works-root', { extensions: AUTHORITY })
  m.certificate('works-between', { by: 'works-root', extensions: AUTHORITY })
  m.certificate('kiln-7', { by: 'works-between', extensions: DEVICE })
  m.certificate('dryer-2', { by: 'works-root', extensions: DEVICE, key: ['-algorithm', 'RSA', '-pkeyopt', 'rsa_keygen_bits:2048'] })
  m.certificate('hall-broker', {
    by: 'works-between',
    extensions: 'basicConstraints=CA:FALSE\nextendedKeyUsage=serverAuth\nsubjectAltName=DNS:broker.varnmoor.example,IP:10.0.0.7',
  })
  return m
}
