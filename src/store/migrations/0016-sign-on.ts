import { type Kysely, sql } from 'kysely'

/** Somebody who logs in at a provider: by whom, and by what name there that never changes (OpenID Connect Core 1.0 2, iss and sub). */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table person add column issuer text, add column subject text, add constraint person_sign_on unique (issuer, subject)`.execute(db)
}
