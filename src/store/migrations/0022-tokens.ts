import { type Kysely, sql } from 'kysely'

/** By which recipe tokens are made from a kept key. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table credential add column recipe jsonb`.execute(db)
  await sql`alter table credential_before add column recipe jsonb`.execute(db)
}
