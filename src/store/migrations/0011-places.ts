import { type Kysely, sql } from 'kysely'

/** Where a log-in may be sent, so that nobody has it sent to a host of his own. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table credential add column places text[] not null default '{}'`.execute(db)
}
