import { type Db, databaseUrl, openDatabase } from '~/store/database'
import { openVault, type Vault } from '~/store/vault'

let db: Db | null = null
let vault: Vault | null = null

/** The web process's pool. */
export function database(): Db {
  return (db ??= openDatabase(databaseUrl(), 8, (e) => console.error(`database: ${e.message}`)))
}

export function secrets(): Vault {
  return (vault ??= openVault())
}
