import { type Kysely, sql } from 'kysely'

/** Under which publisher id a version's data sets go out: two at one destination must not share it, and all plans are not read to know. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table publication_version add column publisher text generated always as (plan->'shape'->>'publisherId') stored`.execute(db)
}
