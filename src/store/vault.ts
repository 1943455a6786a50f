import { createCipheriv, createDecipheriv, createHash, randomBytes } from 'node:crypto'
import { readFileSync } from 'node:fs'
import { FailureError } from '~/contract/failure'

/** Octets before what is encrypted: version, key, nonce, tag; those of the first version name no key. */
const LENGTHS = { version: 1, key: 4, nonce: 12, tag: 16 } as const

/** By what a key is named beside what was sealed with it: tells nothing of it. */
const nameOf = (key: Buffer) => createHash('sha256').update('embrik master key').update(key).digest().subarray(0, LENGTHS.key)

/**
 * Encrypts what must stay secret in the database: AES-256-GCM (NIST SP 800-38D), a fresh nonce each, bound to its place. What is
 * sealed names its key, so that a master key can follow another: the present one seals, earlier ones still open.
 */
export class Vault {
  private keys: readonly { name: Buffer; key: Buffer }[]

  /** `reread` gives all keys as they are by now, the present one first; what seals and opens goes by that. */
  constructor(
    key: Buffer,
    before: readonly Buffer[] = [],
    private readonly reread: (() => readonly Buffer[]) | null = null,
  ) {
    this.keys = named([key, ...before])
  }

  /** `place` (table and id) is authenticated, so that a secret moved to another row can't be opened. */
  seal(secret: string, place: string): Buffer {
    this.refresh()
    const [{ name, key }] = this.keys as [{ name: Buffer; key: Buffer }]
    const nonce = randomBytes(LENGTHS.nonce)
    const head = Buffer.concat([Buffer.from([2]), name])
    const cipher = createCipheriv('aes-256-gcm', key, nonce)
    cipher.setAAD(Buffer.concat([head, Buffer.from(place)]))
    const body = Buffer.concat([cipher.update(secret, 'utf8'), cipher.final()])
    return Buffer.concat([head, nonce, cipher.getAuthTag(), body])
  }

  open(sealed: Buffer, place: string): string {
    const opened = this.opened(sealed, place) ?? (this.refresh() ? this.opened(sealed, place) : null)
    if (opened !== null) return opened
    throw new FailureError(
      {
        code: 'vault.unreadable',
        message: 'A stored secret cannot be opened with this master key',
        hint: 'Start with the master key under which it was stored (EMBRIK_MASTER_KEYS_BEFORE takes earlier ones), or enter the secret again',
        where: 'credential',
      },
      500,
    )
  }

  /** Whether it was sealed under the present key. */
  isPresent(sealed: Buffer): boolean {
    return sealed[0] === 2 && sealed.subarray(LENGTHS.version, LENGTHS.version + LENGTHS.key).equals(this.keys[0]!.name)
  }

  /** The master key may have been changed meanwhile; whether it has. Keys that cannot be read just now stay what they were. */
  private refresh(): boolean {
    if (!this.reread) return false
    try {
      const now = named(this.reread())
      const same = now.length === this.keys.length && now.every(({ name }, i) => name.equals(this.keys[i]!.name))
      if (!same) this.keys = now
      return !same
    } catch {
      return false
    }
  }

  private opened(sealed: Buffer, place: string): string | null {
    return sealed[0] === 2 ? this.openNamed(sealed, place) : sealed[0] === 1 ? this.openUnnamed(sealed, place) : null
  }

  private openNamed(sealed: Buffer, place: string): string | null {
    const end = LENGTHS.version + LENGTHS.key
    const name = sealed.subarray(LENGTHS.version, end)
    const named = this.keys.find((k) => k.name.equals(name))
    return named ? decrypt(named.key, sealed.subarray(end), Buffer.concat([sealed.subarray(0, end), Buffer.from(place)])) : null
  }

  /** What was sealed before keys had names. */
  private openUnnamed(sealed: Buffer, place: string): string | null {
    for (const { key } of this.keys) {
      const opened = decrypt(key, sealed.subarray(LENGTHS.version), Buffer.from(place))
      if (opened !== null) return opened
    }
    return null
  }
}

const named = (keys: readonly Buffer[]) =>
  keys.map((key) => {
    if (key.length !== 32) throw keyFailure('The master key is not 32 octets long')
    return { name: nameOf(key), key }
  })

/** Nonce, tag and text; null: not with this key, or altered. */
function decrypt(key: Buffer, from: Buffer, authenticated: Buffer): string | null {
  const tagAt = LENGTHS.nonce
  const bodyAt = tagAt + LENGTHS.tag
  if (from.length < bodyAt) return null
  try {
    const decipher = createDecipheriv('aes-256-gcm', key, from.subarray(0, tagAt))
    decipher.setAAD(authenticated)
    decipher.setAuthTag(from.subarray(tagAt, bodyAt))
    return decipher.update(from.subarray(bodyAt), undefined, 'utf8') + decipher.final('utf8')
  } catch {
    return null
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

/** Master keys in a text: 64 hexadecimal digits each, the present one first. */
export function keysIn(text: string): Buffer[] {
  const keys = text
    .split(/[\s,]+/)
    .filter(Boolean)
    .map((hex, i) => {
      if (!/^[0-9a-f]{64}$/i.test(hex)) throw keyFailure(`${i === 0 ? 'The' : 'An earlier'} master key is not 64 hexadecimal digits`)
      return Buffer.from(hex, 'hex')
    })
  if (keys.length === 0) throw keyFailure('There is no master key')
  return keys
}

function fileText(file: string): string {
  try {
    return readFileSync(file, 'utf8')
  } catch {
    throw keyFailure(`The master key file ${file} cannot be read`)
  }
}

/**
 * Opens the vault with the key from `EMBRIK_MASTER_KEY` or the file named by `EMBRIK_MASTER_KEY_FILE`, which is read again when its key
 * has been changed. `EMBRIK_MASTER_KEYS_BEFORE` holds earlier keys, and so may further lines of the file.
 */
export function openVault(env: NodeJS.ProcessEnv = process.env): Vault {
  const { EMBRIK_MASTER_KEY: given, EMBRIK_MASTER_KEY_FILE: file, EMBRIK_MASTER_KEYS_BEFORE: before = '' } = env
  const read = () => keysIn(`${given || (file ? fileText(file) : '')} ${before}`)
  // Earlier keys alone are none.
  if (!given && !(file && fileText(file).trim())) throw keyFailure('There is no master key')
  const [key, ...earlier] = read()
  return new Vault(key!, earlier, given ? null : read)
}
