import { createHash, createPublicKey, generateKeyPairSync, sign } from 'node:crypto'
import { newId } from '~/contract/id'
import type { PlantKey } from '~/contract/prove'
import type { Conn, Db } from './database'
import { transacted } from './transacted'
import type { Vault } from './vault'

const place = (id: string) => `plant-key:${id}`

/** SHA-256 of the DER form, in pairs of digits. */
function fingerprintOf(pem: string): string {
  const der = createPublicKey(pem).export({ type: 'spki', format: 'der' })
  return (createHash('sha256').update(der).digest('hex').toUpperCase().match(/../g) ?? []).join(':')
}

type Row = { id: string; made_at: Date; public_key: string; secret: Buffer }

const newest = (db: Conn): Promise<Row | undefined> => db.selectFrom('plant_key').selectAll().orderBy('made_at', 'desc').limit(1).executeTakeFirst()

/** The key of this installation; made when it is asked for the first time. */
async function demandKey(db: Db, vault: Vault): Promise<Row> {
  const there = await newest(db)
  if (there) return there
  return transacted(db, async (tx) => {
    // Of two that ask at once one makes it.
    await tx.selectFrom('installation').select('code').forUpdate().executeTakeFirstOrThrow()
    const meanwhile = await newest(tx)
    if (meanwhile) return meanwhile
    const id = newId()
    const { publicKey, privateKey } = generateKeyPairSync('ec', { namedCurve: 'P-256' })
    const secret = vault.seal(privateKey.export({ type: 'pkcs8', format: 'pem' }) as string, place(id))
    await tx
      .insertInto('plant_key')
      .values({ id, public_key: publicKey.export({ type: 'spki', format: 'pem' }) as string, secret })
      .execute()
    return (await newest(tx))!
  })
}

const shown = (row: Row): PlantKey => ({ publicKey: row.public_key, fingerprint: fingerprintOf(row.public_key), madeAt: row.made_at.getTime() })

export async function plantKey(db: Db, vault: Vault): Promise<PlantKey> {
  return shown(await demandKey(db, vault))
}

/** Signs with it (ECDSA over P-256 with SHA-256, FIPS 186-5; in DER form, as RFC 3279 2.2.3 has it). */
export async function signer(db: Db, vault: Vault): Promise<{ keyId: string; key: PlantKey; sign(body: Buffer): string }> {
  const row = await demandKey(db, vault)
  const secret = vault.open(row.secret, place(row.id))
  return { keyId: row.id, key: shown(row), sign: (body) => sign('sha256', body, secret).toString('base64') }
}

/** The public half of a key that signed something. */
export async function publicKeyOf(db: Conn, id: string): Promise<PlantKey> {
  return shown(await db.selectFrom('plant_key').selectAll().where('id', '=', id).executeTakeFirstOrThrow())
}
