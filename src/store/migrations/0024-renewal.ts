import { type Kysely, sql } from 'kysely'

/** Certificates that authorities of ours signed may be renewed by themselves, so many days before their end. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table credential add column renew_days integer`.execute(db)
}
