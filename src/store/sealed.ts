import { sql } from 'kysely'
import { FailureError } from '~/contract/failure'
import { announce, type Db } from './database'
import { transacted } from './transacted'
import type { Vault } from './vault'

/** Every place at which something sealed is stored: its table, the column of its row's id, its column, and what it is bound to. */
export const sealedColumns = [
  { table: 'credential', id: 'id', column: 'secret', place: (id: string) => `credential:${id}`, name: 'name' },
  { table: 'credential_before', id: 'credential_id', column: 'secret', place: (id: string) => `credential:${id}`, name: null },
  { table: 'source', id: 'id', column: 'secret', place: (id: string) => `source:${id}`, name: 'name' },
  { table: 'plant_key', id: 'id', column: 'secret', place: (id: string) => `plant-key:${id}`, name: null },
  { table: 'person', id: 'id', column: 'totp', place: (id: string) => `person:${id}:totp`, name: 'name' },
  { table: 'person', id: 'id', column: 'totp_pending', place: (id: string) => `person:${id}:totp`, name: 'name' },
] as const

interface SealedRow {
  id: string
  sealed: Buffer
  name: string
}

/**
 * Seals everything that is sealed anew under the present key: all of it, or nothing. Gives how many were sealed under others, and of how
 * many. What can't be opened is named, and then nothing is changed.
 */
export async function resealAll(db: Db, vault: Vault): Promise<{ resealed: number; all: number }> {
  return transacted(db, async (tx) => {
    let [resealed, all] = [0, 0]
    const unreadable: string[] = []
    // What is just being stored under the old key comes before, or waits and is sealed under the new one.
    await sql`lock table credential, credential_before, source, plant_key, person in share row exclusive mode`.execute(tx)
    for (const { table, id, column, place, name } of sealedColumns) {
      const { rows } = await sql<SealedRow>`
        select ${sql.ref(id)}::text as id, ${sql.ref(column)} as sealed, ${name === null ? sql`''` : sql.ref(name)} as name
        from ${sql.table(table)} where ${sql.ref(column)} is not null`.execute(tx)
      for (const row of rows) {
        all++
        if (vault.isPresent(row.sealed)) continue
        try {
          const again = vault.seal(vault.open(row.sealed, place(row.id)), place(row.id))
          await sql`update ${sql.table(table)} set ${sql.ref(column)} = ${again} where ${sql.ref(id)} = ${row.id}`.execute(tx)
          resealed++
        } catch (e) {
          if (!(e instanceof FailureError)) throw e
          unreadable.push(`${table} ${row.name || row.id}`)
        }
      }
    }
    if (unreadable.length > 0)
      throw new FailureError(
        {
          code: 'vault.unreadable',
          message: `${unreadable.length} stored ${unreadable.length === 1 ? 'secret cannot' : 'secrets cannot'} be opened: ${unreadable.slice(0, 10).join(', ')}`,
          hint: 'Nothing was changed. Add the master key under which they were stored to the file, or remove them',
          where: 'credential',
        },
        422,
      )
    await announce(tx, 'credential')
    return { resealed, all }
  })
}

/** How many are not sealed under the present key. */
export async function sealedByOthers(db: Db, vault: Vault): Promise<number> {
  let others = 0
  for (const { table, column } of sealedColumns) {
    const { rows } = await sql<{ sealed: Buffer }>`
      select ${sql.ref(column)} as sealed from ${sql.table(table)} where ${sql.ref(column)} is not null`.execute(db)
    others += rows.filter((row) => !vault.isPresent(row.sealed)).length
  }
  return others
}
