import { type Kysely, sql } from 'kysely'

/** A publication may say what it says to several destinations: each further clause is a row of its own that hangs on the first. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table publication add column also_of uuid generated always as ((draft->>'alsoOf')::uuid) stored
    references publication on delete cascade`.execute(db)
  await sql`create index publication_also_of on publication (also_of) where also_of is not null`.execute(db)
}
