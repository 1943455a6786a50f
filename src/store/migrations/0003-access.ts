import { type Kysely, sql } from 'kysely'

/** Log-in attempts are counted, by account and by address; sessions change their token and end when idle. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}

const statements = [
  `create table log_in_attempt (
    subject bytea primary key, failures int not null, last_at timestamptz not null, shut_until timestamptz) with (fillfactor = 70)`,
  `alter table session add column previous_hash bytea, add column rotated_at timestamptz not null default now(), add column seen_at timestamptz not null default now()`,
  `create index session_previous on session (previous_hash)`,
]
