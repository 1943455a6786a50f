import { type Kysely, sql } from 'kysely'

/** What tags held in the last hours, in blocks; now and then what all of them held at one moment (`whole_at`). */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table recording (id bigint generated always as identity primary key, mark uuid not null unique, from_ms float8 not null, to_ms float8 not null,
    whole_at float8, samples int not null, octets int not null, body bytea not null)`.execute(db)
  // It is packed already.
  await sql`alter table recording alter column body set storage external`.execute(db)
  await sql`create index recording_whole on recording (whole_at, id) where whole_at is not null`.execute(db)
}
