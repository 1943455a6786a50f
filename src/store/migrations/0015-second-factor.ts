import { type Kysely, sql } from 'kysely'

const statements = [
  // The key of a second factor (sealed), one that is being set up, since when it holds, and the last step of time of which a code was taken.
  `alter table person add column totp bytea, add column totp_pending bytea, add column totp_since timestamptz, add column totp_step bigint not null default 0`,
  `create table recovery_code (person_id uuid not null references person on delete cascade, code_hash bytea not null, primary key (person_id, code_hash))`,
]

export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}
