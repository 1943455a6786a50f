import { type Kysely, sql } from 'kysely'

/** What a credential held before it was replaced is kept until somebody lets go of it; tokens among log-ins say when they end. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table credential add column ends_at timestamptz`.execute(db)
  await sql`
    create table credential_before (
      credential_id uuid primary key references credential on delete cascade,
      certificate text,
      facts jsonb,
      user_name text,
      secret bytea,
      ends_at timestamptz,
      replaced_at timestamptz not null default now()
    )`.execute(db)
}
