import { createPrivateKey } from 'node:crypto'
import { AuthenticatedSafe, CertBag, Certificate, PFX, PKCS8ShroudedKeyBag, PrivateKeyInfo, SafeBag, SafeContents } from 'pkijs'
import yazl from 'yazl'
import { readChain } from '~/core/credential/certificate'
import { pemOf } from '~/core/credential/intake/pem'
import { storeCrypto } from './intake/store-crypto'

/** A certificate with its chain, and its key, as they are kept: PEM. */
export interface KitParts {
  certificate: string
  key: string
}

/** A pass phrase is hashed so often before it locks anything (PBKDF2, RFC 8018 5.2). */
const ROUNDS = 200_000
const BAG = '1.2.840.113549.1.12.10.1.'
/** The library draws its own beginning (IV) each time; its type asks for one. */
const AES = { name: 'AES-CBC', length: 256, iv: new Uint8Array(16) }

/** Its own certificate, those of its chain, and its key locked by the pass phrase (PKCS#8, AES-256), as PEM files in a zip. */
export function zipKit({ certificate, key }: KitParts, phrase: string): Promise<Buffer> {
  const [own, ...chain] = readChain(certificate).map((c) => pemOf('CERTIFICATE', new Uint8Array(c.rawData)))
  const locked = createPrivateKey(key).export({ type: 'pkcs8', format: 'pem', cipher: 'aes-256-cbc', passphrase: phrase })
  const zip = new yazl.ZipFile()
  zip.addBuffer(Buffer.from(own!), 'certificate.pem')
  if (chain.length > 0) zip.addBuffer(Buffer.from(chain.join('')), 'chain.pem')
  zip.addBuffer(Buffer.from(locked), 'key.pem')
  zip.end()
  const chunks: Buffer[] = []
  return new Promise((done, failed) => {
    zip.outputStream.on('data', (chunk: Buffer) => chunks.push(chunk))
    zip.outputStream.on('end', () => done(Buffer.concat(chunks)))
    zip.outputStream.on('error', failed)
  })
}

const octets = (text: string): ArrayBuffer => Uint8Array.from(new TextEncoder().encode(text)).buffer

/** The same in a store (PKCS#12, RFC 7292): locked with AES-256, its integrity by HMAC with SHA-256. */
export async function storeKit({ certificate, key }: KitParts, phrase: string): Promise<Buffer> {
  const password = octets(phrase)
  const der = createPrivateKey(key).export({ type: 'pkcs8', format: 'der' })
  const keyBag = new PKCS8ShroudedKeyBag({ parsedValue: PrivateKeyInfo.fromBER(Uint8Array.from(der).buffer) })
  const certificates = readChain(certificate).map(
    (c) => new SafeBag({ bagId: `${BAG}3`, bagValue: new CertBag({ parsedValue: Certificate.fromBER(c.rawData) }) }),
  )
  const safe = new AuthenticatedSafe({
    parsedValue: {
      safeContents: [
        { privacyMode: 0, value: new SafeContents({ safeBags: [new SafeBag({ bagId: `${BAG}2`, bagValue: keyBag })] }) },
        { privacyMode: 1, value: new SafeContents({ safeBags: certificates }) },
      ],
    },
  })
  const lock = { password, contentEncryptionAlgorithm: AES, hmacHashAlgorithm: 'SHA-256', iterationCount: ROUNDS }
  await keyBag.makeInternalValues(lock)
  await safe.makeInternalValues({ safeContents: [{}, lock] })
  const store = new PFX({ parsedValue: { integrityMode: 0, authenticatedSafe: safe } })
  await store.makeInternalValues({ password, iterations: ROUNDS, pbkdf2HashAlgorithm: 'SHA-256', hmacHashAlgorithm: 'SHA-256' }, storeCrypto)
  return Buffer.from(store.toSchema().toBER(false))
}
