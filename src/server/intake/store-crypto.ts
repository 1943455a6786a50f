import { createHmac, hash, timingSafeEqual, webcrypto } from 'node:crypto'
import { CryptoEngine, type CryptoEngineStampDataWithPasswordParams, type CryptoEngineVerifyDataStampedWithPasswordParams } from 'pkijs'

/** How a hash is named here, and into pieces of how many octets it cuts what it takes. */
const hashes: Readonly<Record<string, readonly [name: string, piece: number]>> = {
  'SHA-1': ['sha1', 64],
  'SHA-256': ['sha256', 64],
  'SHA-384': ['sha384', 128],
  'SHA-512': ['sha512', 128],
}
/** What the key is for: integrity (RFC 7292 B.3). */
const FOR_MAC = 3

/** Repeated to whole pieces. */
const stretched = (octets: Buffer, piece: number): Buffer => Buffer.alloc(Math.ceil(octets.length / piece) * piece, octets)

/** UTF-16BE with a zero at its end (RFC 7292 B.1). */
const wide = (phrase: string): Buffer => Buffer.from(`${phrase}\0`, 'utf16le').swap16()

/** The key of an HMAC from a pass phrase (RFC 7292 B.2): as long as the hash itself, so one block is all there is. */
function macKey([name, piece]: readonly [string, number], phrase: string, salt: Buffer, rounds: number): Buffer {
  let key = hash(name, Buffer.concat([Buffer.alloc(piece, FOR_MAC), stretched(salt, piece), stretched(wide(phrase), piece)]), 'buffer')
  for (let i = 1; i < rounds; i++) key = hash(name, key, 'buffer')
  return key
}

interface Stamp {
  hashAlgorithm: string
  password: ArrayBuffer
  salt: ArrayBuffer
  iterationCount: number
}

function stamp({ hashAlgorithm, password, salt, iterationCount }: Stamp, content: ArrayBuffer): Buffer {
  const by = hashes[hashAlgorithm.toUpperCase()]
  if (!by) throw new Error(`its integrity is by ${hashAlgorithm}, which is not known here`)
  const key = macKey(by, new TextDecoder().decode(password), Buffer.from(salt), iterationCount)
  return createHmac(by[0], key).update(Buffer.from(content)).digest()
}

/**
 * The library reckons the key of a store's integrity in hundreds of thousands of promises, and takes each octet of a pass phrase
 * for a letter; here it is one loop, and letters beyond ASCII are what they are.
 */
class StoreCrypto extends CryptoEngine {
  override async stampDataWithPassword(o: CryptoEngineStampDataWithPasswordParams): Promise<ArrayBuffer> {
    return Uint8Array.from(stamp(o, o.contentToStamp)).buffer
  }

  override async verifyDataStampedWithPassword(o: CryptoEngineVerifyDataStampedWithPasswordParams): Promise<boolean> {
    const found = stamp(o, o.contentToVerify)
    const told = Buffer.from(o.signatureToVerify)
    return found.length === told.length && timingSafeEqual(found, told)
  }
}

export const storeCrypto = new StoreCrypto({ name: 'node', crypto: webcrypto as Crypto })
