import { type Kysely, sql } from 'kysely'

/** Which messages went out more than once is known beyond the engine that sent them: of those a second copy may be of our making. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table ledger_odd add column resent int8multirange not null default '{}'`.execute(db)
}
