import { randomBytes } from 'node:crypto'
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
