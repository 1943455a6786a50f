import { type Kysely, sql } from 'kysely'

/** What has its fate stays in a journal for a while: any message of the last hours can be opened whole. What waited may go out slowly. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table outbox_segment add freed_at timestamptz, add hops bytea`.execute(db)
  await sql`create index outbox_segment_waits on outbox_segment (destination_id, segment) where freed_at is null`.execute(db)
  await sql`update destination set settings = settings || '{"drainPerS": 0, "journalHours": 24, "journalMb": 256}'::jsonb where not settings ? 'journalHours'`.execute(
    db,
  )
}
