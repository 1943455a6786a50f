import { type Kysely, sql } from 'kysely'

/** How far messages may have gone out is written before they go. Of what waits now, all may have been on the wire. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table outbox_cursor add column announced bigint not null default 0`.execute(db)
  await sql`update outbox_cursor set announced = ordinal`.execute(db)
}
