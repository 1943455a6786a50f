import { createCipheriv, randomBytes } from 'node:crypto'
import { mkdtempSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { expect, it } from 'vitest'
import { openVault, Vault } from './vault'

const vault = new Vault(randomBytes(32))

it('opens what it sealed, and seals the same secret differently each time', () => {
  const one = vault.seal('kiln-reader-4 é', 'source:1')
  expect(vault.open(one, 'source:1')).toBe('kiln-reader-4 é')
  expect(vault.seal('kiln-reader-4 é', 'source:1').equals(one)).toBe(false)
  expect(one.toString('latin1')).not.toContain('kiln')
})

it('refuses what was altered anywhere, moved to another place, or sealed under another key', () => {
  const sealed = vault.seal('secret', 'source:1')
  for (let i = 0; i < sealed.length; i++) {
    const bent = Buffer.from(sealed)
    bent[i]! ^= 1
    expect(() => vault.open(bent, 'source:1')).toThrow('cannot be opened')
  }
  expect(() => vault.open(sealed, 'source:2')).toThrow('cannot be opened')
  expect(() => new Vault(randomBytes(32)).open(sealed, 'source:1')).toThrow('cannot be opened')
})

it('takes its key from the environment or a file, and says what is wrong with it', () => {
  const hex = randomBytes(32).toString('hex')
  const file = join(mkdtempSync(join(tmpdir(), 'vault-')), 'key')
  writeFileSync(file, `${hex}\n`)
  const sealed = openVault({ EMBRIK_MASTER_KEY: hex }).seal('x', 'p')
  expect(openVault({ EMBRIK_MASTER_KEY_FILE: file }).open(sealed, 'p')).toBe('x')
  expect(() => openVault({})).toThrow('There is no master key')
  expect(() => openVault({ EMBRIK_MASTER_KEY: 'abc' })).toThrow('not 64 hexadecimal digits')
  expect(() => openVault({ EMBRIK_MASTER_KEY_FILE: '/nowhere' })).toThrow('cannot be read')
})

it('opens what earlier keys sealed, and seals with the present one', () => {
  const [old, present] = [randomBytes(32), randomBytes(32)]
  const before = new Vault(old).seal('kiln-reader-4', 'source:1')
  const after = new Vault(present, [old])
  expect(after.open(before, 'source:1')).toBe('kiln-reader-4')
  expect(after.isPresent(before)).toBe(false)
  const again = after.seal('kiln-reader-4', 'source:1')
  expect(after.isPresent(again)).toBe(true)
  expect(new Vault(present).open(again, 'source:1')).toBe('kiln-reader-4')
  expect(() => new Vault(old).open(again, 'source:1')).toThrow('cannot be opened')
  expect(() => new Vault(present).open(before, 'source:1')).toThrow('cannot be opened')
})

it('opens what was sealed before keys had names', () => {
  const key = randomBytes(32)
  const nonce = randomBytes(12)
  const cipher = createCipheriv('aes-256-gcm', key, nonce)
  cipher.setAAD(Buffer.from('source:1'))
  const body = Buffer.concat([cipher.update('kiln-reader-4', 'utf8'), cipher.final()])
  const sealed = Buffer.concat([Buffer.from([1]), nonce, cipher.getAuthTag(), body])
  expect(new Vault(key).open(sealed, 'source:1')).toBe('kiln-reader-4')
  expect(new Vault(randomBytes(32), [randomBytes(32), key]).open(sealed, 'source:1')).toBe('kiln-reader-4')
  expect(() => new Vault(key).open(sealed, 'source:2')).toThrow('cannot be opened')
})

it('what is cut off opens nothing', () => {
  const sealed = vault.seal('secret', 'source:1')
  for (let n = 0; n < sealed.length; n++) expect(() => vault.open(sealed.subarray(0, n), 'source:1')).toThrow('cannot be opened')
})

it('takes earlier keys from the environment, or from further lines of the file', () => {
  const [a, b, c] = [randomBytes(32), randomBytes(32), randomBytes(32)].map((k) => k.toString('hex')) as [string, string, string]
  const file = join(mkdtempSync(join(tmpdir(), 'vault-')), 'key')
  writeFileSync(file, `${a}\n${b}\n`)
  const sealed = openVault({ EMBRIK_MASTER_KEY: b }).seal('x', 'p')
  expect(openVault({ EMBRIK_MASTER_KEY_FILE: file }).open(sealed, 'p')).toBe('x')
  expect(openVault({ EMBRIK_MASTER_KEY: a, EMBRIK_MASTER_KEYS_BEFORE: `${c}, ${b}` }).open(sealed, 'p')).toBe('x')
  expect(() => openVault({ EMBRIK_MASTER_KEY: a, EMBRIK_MASTER_KEYS_BEFORE: 'abc' })).toThrow('An earlier master key is not 64 hexadecimal digits')
})
