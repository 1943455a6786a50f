import { createPrivateKey, createPublicKey, type KeyObject } from 'node:crypto'
import type { Thing } from '~/core/credential/intake/found'
import type { OpenKey } from '~/core/credential/intake/kits'

/** A private key, or why there is none: a pass phrase is missing, none of those that were given fits, or it is of no use. */
export type Opening = { key: OpenKey } | { locked: 'no-phrase' | 'wrong-phrase' } | { useless: string }

/** Opens a private key (PKCS#8, PKCS#1, SEC1; locked by PKCS#5 or as of RFC 1421) with the first pass phrase that fits. */
export function openKey(thing: Thing, phrases: readonly string[]): Opening {
  if (thing.kind === 'key') {
    const key = unlocked(thing)
    return key ? { key } : { useless: 'This private key is of a kind that is not known here' }
  }
  if (phrases.length === 0) return { locked: 'no-phrase' }
  let unsupported = false
  for (const passphrase of phrases) {
    try {
      return { key: opened(lockedKey(thing, passphrase), thing.from) }
    } catch (e) {
      unsupported ||= (e as NodeJS.ErrnoException).code === 'ERR_OSSL_UNSUPPORTED' || (e as NodeJS.ErrnoException).code === 'ERR_OSSL_EVP_UNSUPPORTED'
    }
  }
  return unsupported ? { useless: 'This private key is locked in a way that is not safe any more, and not known here' } : { locked: 'wrong-phrase' }
}

function lockedKey(thing: Thing, passphrase: string): KeyObject {
  if (thing.pem !== undefined) return createPrivateKey({ key: thing.pem, passphrase })
  return createPrivateKey({ key: Buffer.from(thing.der), format: 'der', type: 'pkcs8', passphrase })
}

function unlocked(thing: Thing): OpenKey | null {
  for (const type of ['pkcs8', 'pkcs1', 'sec1'] as const) {
    try {
      return opened(createPrivateKey({ key: Buffer.from(thing.der), format: 'der', type }), thing.from)
    } catch {
      // Of another form.
    }
  }
  return null
}

export function opened(key: KeyObject, from: string): OpenKey {
  return {
    from,
    pem: key.export({ type: 'pkcs8', format: 'pem' }).toString(),
    spki: new Uint8Array(createPublicKey(key).export({ type: 'spki', format: 'der' })),
  }
}
