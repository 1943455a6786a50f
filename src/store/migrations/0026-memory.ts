import { type Kysely, sql } from 'kysely'

/**
 * What the steps of publications keep from one message to the next is there again after a start: the state of scripts, what was
 * smoothed and bridged. A version says why it was made, and which warnings were
 * lived with. What went aside may be sent again.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table publication_memory (
    publication_id uuid not null references publication on delete cascade, place text not null, kept text not null,
    primary key (publication_id, place)) with (fillfactor = 50)`.execute(db)
  await sql`alter table publication_version add note text not null default '', add accepted jsonb not null default '[]'`.execute(db)
  await sql`alter table aside add octets int, add again_seq bigint, add again_at timestamptz, add again_by text`.execute(db)
}
