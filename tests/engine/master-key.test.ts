import { execFile } from 'node:child_process'
import { randomBytes } from 'node:crypto'
import { mkdtempSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { sql } from 'kysely'
import { afterEach, beforeEach, expect, it } from 'vitest'
import { addCredential, openCredential } from '~/store/credential'
import { addMasterKey, dropEarlierKeys } from '~/store/key-file'
import { replaceCredential } from '~/store/replacement'
import { resealAll, sealedByOthers, sealedColumns } from '~/store/sealed'
import { addSource, sourcePassword } from '~/store/source'
import { openVault, Vault } from '~/store/vault'
import { bundled } from '../bundle'
import { freshDatabase } from './support'

let t: Awaited<ReturnType<typeof freshDatabase>>
let file: string
beforeEach(async () => {
  t = await freshDatabase()
  file = join(mkdtempSync(join(tmpdir(), 'embrik-key-')), 'master.key')
  writeFileSync(file, t.key, { mode: 0o600 })
})
afterEach(() => t.drop())

const login = (name: string, secret: string) => ({ name, kind: 'password' as const, certificate: null, facts: null, user: 'kiln', secret })
const vaultOf = (of = file) => openVault({ EMBRIK_MASTER_KEY_FILE: of })

/** A log-in, one that was replaced, and a source with a password. */
async function plant() {
  const one = await addCredential(t.db, t.vault, login('one', 'glaze-1'))
  const two = await addCredential(t.db, t.vault, login('two', 'slip-1'))
  await replaceCredential(t.db, t.vault, two.id, login('two', 'slip-2'))
  const settings = {
    host: '127.0.0.1',
    port: 5432,
    database: 'works',
    user: 'u',
    tls: false,
    authorityId: null,
    queries: [],
    rateMs: 1000,
    retryMs: 1000,
  }
  const source = await addSource(t.db, t.vault, { kind: 'sql', name: 'Records', enabled: false, password: 'kiln-3', settings } as never)
  const all = async (vault: Vault) => [
    (await openCredential(t.db, vault, one.id)).secret,
    (await openCredential(t.db, vault, two.id)).secret,
    await sourcePassword(t.db, vault, source.id),
  ]
  return { one, all }
}

async function rotate(...args: string[]): Promise<string> {
  const program = await bundled('scripts/rotate-key.ts', 'rotate-key.mjs')
  const env = { ...process.env, DATABASE_URL: t.url, EMBRIK_MASTER_KEY_FILE: file, EMBRIK_MASTER_KEY: '' }
  return (await promisify(execFile)(process.execPath, [program, ...args], { env })).stdout
}

it('every column that can hold something sealed is known', async () => {
  const other = ['session', 'known_device', 'log_in_attempt', 'api_key', 'recovery_code', 'installation']
  const octets = ['outbox_segment', 'ledger_latency', 'witness_position', 'aside', 'recording', 'proof_report']
  const { rows } = await sql<{ at: string; of: string }>`
    select table_name as of, table_name || '.' || column_name as at from information_schema.columns
    where table_schema = 'public' and data_type = 'bytea'`.execute(t.db)
  const sealed = sealedColumns.map(({ table, column }) => `${table}.${column}`)
  expect(rows.map((r) => r.at)).toEqual(expect.arrayContaining(sealed))
  expect(rows.filter((r) => !sealed.includes(r.at) && ![...other, ...octets].includes(r.of)).map((r) => r.at)).toEqual([])
})

it('a new key seals everything anew; what runs goes on with it, and the old one can be forgotten', async () => {
  const { all } = await plant()
  const running = vaultOf()
  expect(await rotate()).toContain('All 4 secrets are sealed under a new master key (4 anew)')
  expect(readFileSync(file, 'utf8').trim().split('\n')).toHaveLength(2)
  expect(statSync(file).mode & 0o777).toBe(0o600)
  expect(await sealedByOthers(t.db, vaultOf())).toBe(0)
  expect(await all(running)).toEqual(['glaze-1', 'slip-2', 'kiln-3'])
  // What it stores from now on is under the new one.
  await addCredential(t.db, running, login('three', 'mica'))
  expect(await sealedByOthers(t.db, vaultOf())).toBe(0)
  expect(await rotate('--forget-old')).toContain('holds only the present master key')
  expect(readFileSync(file, 'utf8').trim().split('\n')).toHaveLength(1)
  expect(await all(running)).toEqual(['glaze-1', 'slip-2', 'kiln-3'])
  await expect(all(t.vault)).rejects.toMatchObject({ failure: { code: 'vault.unreadable' } })
  expect(await rotate('--forget-old')).toContain('holds only')
  const { rows } = await sql<{ act: string }>`select act from audit order by id`.execute(t.db)
  expect(rows.map((r) => r.act)).toEqual(['rotateMasterKey', 'forgetMasterKeys'])
})

it('one secret that cannot be opened is named, and nothing is changed', async () => {
  const { all } = await plant()
  await addCredential(t.db, new Vault(randomBytes(32)), login('from another house', 'x'))
  await expect(rotate()).rejects.toMatchObject({ stderr: expect.stringContaining('credential from another house') })
  expect(readFileSync(file, 'utf8').trim()).toBe(t.key)
  expect(await all(t.vault)).toEqual(['glaze-1', 'slip-2', 'kiln-3'])
})

it('what is stored while it is done can be opened after it, whoever stored it', async () => {
  await plant()
  const running = vaultOf()
  let going = true
  const made: string[] = []
  const storing = (async () => {
    for (let i = 0; going; i++) {
      const { id } = await addCredential(t.db, running, login(`while ${i}`, `secret ${i}`))
      made.push(id)
    }
  })()
  for (let i = 0; i < 5; i++) {
    addMasterKey(file)
    await resealAll(t.db, vaultOf())
  }
  going = false
  await storing
  const vault = vaultOf()
  await resealAll(t.db, vault)
  dropEarlierKeys(file)
  expect(made.length).toBeGreaterThan(0)
  for (const [i, id] of made.entries()) expect((await openCredential(t.db, vaultOf(), id)).secret).toBe(`secret ${i}`)
})

it('stopped at any step, all can be opened with the file as it is then', async () => {
  const { all } = await plant()
  const expected = ['glaze-1', 'slip-2', 'kiln-3']
  addMasterKey(file)
  expect(await all(vaultOf())).toEqual(expected)
  // The transaction is gone with its connection.
  await t.db
    .transaction()
    .execute(async (tx) => {
      await resealAll({ transaction: () => ({ execute: (work: (of: typeof tx) => unknown) => work(tx) }) } as never, vaultOf())
      throw new Error('killed')
    })
    .catch(() => undefined)
  expect(await all(vaultOf())).toEqual(expected)
  await resealAll(t.db, vaultOf())
  expect(await all(vaultOf())).toEqual(expected)
  const bringBack = dropEarlierKeys(file)
  expect(await all(vaultOf())).toEqual(expected)
  bringBack()
  expect(await all(vaultOf())).toEqual(expected)
})
