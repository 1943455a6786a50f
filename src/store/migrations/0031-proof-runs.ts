import { type Kysely, sql } from 'kysely'

/** Proof runs with their reports as they were signed, and the key that signs them. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table plant_key (id uuid primary key, made_at timestamptz not null default now(), public_key text not null, secret bytea not null)`.execute(
    db,
  )
  await sql`create table proof_run (id uuid primary key, name text not null, plan jsonb not null, made_by text not null, started_at timestamptz not null default now(),
    ended_at timestamptz, outcome text, why text not null default '', sha256 text not null default '')`.execute(db)
  await sql`create index proof_run_started on proof_run (started_at desc)`.execute(db)
  // Just as they were signed: not a space may be another one.
  await sql`create table proof_report (run_id uuid not null references proof_run on delete cascade, part text not null, body bytea not null, signature text not null,
    key_id uuid not null references plant_key, primary key (run_id, part))`.execute(db)
}
