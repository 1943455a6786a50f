import pg from 'pg'
import type { TableSettings } from '~/contract/destinations/table'
import { fail } from '~/contract/failure'
import type { OpenCredential } from '~/store/credential'
import { openPostgres, type PostgresAccess } from '../../net/postgres'

/** Settings with their credentials opened; for the driver only. */
export interface TableTarget {
  settings: TableSettings
  authority: OpenCredential | null
  credential: OpenCredential | null
  witnessCredential: OpenCredential | null
}

/** Who speaks with the database; `reads`: and only reads. */
export interface TableUser extends Omit<PostgresAccess, 'types' | 'options'> {
  reads: boolean
}

function userOf({ settings: s, authority }: TableTarget, credential: OpenCredential | null, reads: boolean): TableUser {
  if (credential?.kind !== 'password')
    throw fail(422, 'table.login', 'A database is logged in to with user and password', 'Choose a log-in, not a certificate', 'destination')
  return {
    host: s.host,
    port: s.port,
    database: s.database,
    user: credential.user ?? '',
    password: credential.secret ?? '',
    tls: s.tls ? { ca: authority?.certificate ?? null } : null,
    statementMs: s.ackS * 1000,
    name: reads ? 'embrik witness' : 'embrik',
    reads,
  }
}

export const senderUser = (t: TableTarget): TableUser => userOf(t, t.credential, false)
export const witnessUser = (t: TableTarget): TableUser => userOf(t, t.witnessCredential ?? t.credential, true)

const { builtins } = pg.types
/** All as text, but truth and short numbers: what a row held is told apart by its text. */
const types = {
  getTypeParser: ((oid: number, format?: 'text') =>
    oid === builtins.BOOL || oid === builtins.INT4 || oid === builtins.INT2
      ? pg.types.getTypeParser(oid, format)
      : (text: string) => text) as pg.CustomTypesConfig['getTypeParser'],
}

/** Connects and logs in; `lost` hears once when the connection ends by itself. */
export function connectTable(u: TableUser, lost: (e: unknown) => void): Promise<pg.Client> {
  return openPostgres(
    {
      ...u,
      types,
      // An acknowledgement means that it is on disk there; times without a zone are of UTC on both sides.
      options: `-c synchronous_commit=on -c timezone=UTC -c datestyle=ISO -c intervalstyle=iso_8601${u.reads ? ' -c default_transaction_read_only=on' : ''}`,
    },
    lost,
  )
}
