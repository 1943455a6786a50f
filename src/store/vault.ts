import { createCipheriv, createDecipheriv, randomBytes } from 'node:crypto'
import { readFileSync } from 'node:fs'
import { FailureError } from '~/contract/failure'

/** Encrypts what must stay secret in the database: AES-256-GCM (NIST SP 800-38D), a fresh nonce each, bound to its place. */
export class Vault {
  constructor(private readonly key: Buffer) {
    if (key.length !== 32) throw keyFailure('The master key is not 32 octets long')
  }

  /** `place` (table and id) is authenticated, so that a secret moved to another row can't be opened. */
  seal(secret: string, place: string): Buffer {
    const nonce = randomBytes(12)
    const cipher = createCipheriv('aes-256-gcm', this.key, nonce)
    cipher.setAAD(Buffer.from(place))
    const body = Buffer.concat([cipher.update(secret, 'utf8'), cipher.final()])
    return Buffer.concat([Buffer.from([1]), nonce, cipher.getAuthTag(), body])
  }

  open(sealed: Buffer, place: string): string {
    try {
      if (sealed[0] !== 1) throw new Error('version')
      const decipher = createDecipheriv('aes-256-gcm', this.key, sealed.subarray(1, 13))
      decipher.setAAD(Buffer.from(place))
      decipher.setAuthTag(sealed.subarray(13, 29))
      return decipher.update(sealed.subarray(29), undefined, 'utf8') + decipher.final('utf8')
    } catch {
      throw new FailureError(
        {
          code: 'vault.unreadable',
          message: 'A stored secret cannot be opened with this master key',
          hint: 'Start with the master key under which it was stored, or enter the secret again',
          where: 'credential',
        },
        500,
      )
    }
  }
}

function keyFailure(message: string): FailureError {
  return new FailureError(
    {
      code: 'vault.key',
      message,
      hint: 'Set EMBRIK_MASTER_KEY to 64 hexadecimal digits, or EMBRIK_MASTER_KEY_FILE to a file that holds them',
      where: 'credential',
    },
    500,
  )
}

/** Opens the vault with the key from `EMBRIK_MASTER_KEY` or the file named by `EMBRIK_MASTER_KEY_FILE`. */
export function openVault(env: NodeJS.ProcessEnv = process.env): Vault {
  let text = env.EMBRIK_MASTER_KEY
  if (!text && env.EMBRIK_MASTER_KEY_FILE) {
    try {
      text = readFileSync(env.EMBRIK_MASTER_KEY_FILE, 'utf8')
    } catch {
      throw keyFailure(`The master key file ${env.EMBRIK_MASTER_KEY_FILE} cannot be read`)
    }
  }
  if (!text) throw keyFailure('There is no master key')
  const hex = text.trim()
  if (!/^[0-9a-f]{64}$/i.test(hex)) throw keyFailure('The master key is not 64 hexadecimal digits')
  return new Vault(Buffer.from(hex, 'hex'))
}
