import { createPublicKey, createSecretKey, type KeyObject } from 'node:crypto'
import { compactVerify } from 'jose'
import type { Link } from '~/core/credential/intake/kits'
import { nameOf } from '~/core/credential/intake/names'

/** A key that may have signed a token. */
export interface Signer {
  name: string
  key: KeyObject
  /** It was handed over for nothing else: that it did not sign the token means something. */
  alone: boolean
}

/** The keys among what was handed over by which a token can be checked: public keys, certificates, shared keys. */
export function signersIn(publicKeys: readonly { from: string; der: Uint8Array }[], links: readonly Link[], shared: readonly string[]): Signer[] {
  const all: Signer[] = []
  for (const { from, der } of publicKeys) {
    try {
      all.push({ name: `the public key from ${from}`, key: createPublicKey({ key: Buffer.from(der), format: 'der', type: 'spki' }), alone: true })
    } catch {
      // Of a kind that is not known here.
    }
  }
  for (const { certificate, spki } of links) {
    try {
      const key = createPublicKey({ key: Buffer.from(spki), format: 'der', type: 'spki' })
      all.push({ name: nameOf(certificate), key, alone: false })
    } catch {
      // Likewise.
    }
  }
  for (const text of shared) {
    // Written as text, or as the octets that its base64 stands for.
    const forms = [Buffer.from(text, 'utf8'), Buffer.from(text, 'base64')].filter((octets) => octets.length > 0)
    all.push(...forms.map((octets) => ({ name: 'the shared key', key: createSecretKey(octets), alone: true })))
  }
  return all
}

/** Who of them signed a token (RFC 7515 5.2); `none`: those that could have did not; null: nobody here could have. */
export async function signerOf(token: string, algorithm: string, signers: readonly Signer[]): Promise<Signer | 'none' | null> {
  const secret = algorithm.startsWith('HS')
  const able = signers.filter(({ key }) => (key.type === 'secret') === secret)
  for (const signer of able) {
    try {
      await compactVerify(token, signer.key, { algorithms: [algorithm] })
      return signer
    } catch {
      // By another key, or of another kind.
    }
  }
  return able.some((signer) => signer.alone) ? 'none' : null
}
