import { type Kysely, sql } from 'kysely'

const statements = [
  // A session can be named without its token, a key has somebody who answers for it, and an end.
  `alter table session add column id uuid not null default gen_random_uuid() unique`,
  `alter table api_key add column owner_id uuid references person on delete cascade, add column ends_at timestamptz`,
  // Browsers in which somebody has logged in before: strangers who guess at that account do not shut it there.
  `create table known_device (
    token_hash bytea primary key, person_id uuid not null references person on delete cascade, seen_at timestamptz not null default now())`,
  `create index known_device_person on known_device (person_id, seen_at)`,
  // Who did what to whom, apart from what happened in the plant: it is added to and read, and never changed.
  `create table audit (
    id bigint generated always as identity primary key, at timestamptz not null default now(), who text not null, who_id uuid, via text not null,
    address text, act text not null, subject_kind text not null, subject_id text, subject text not null, before jsonb, after jsonb)`,
  `create index audit_at on audit (at desc)`,
  `create function audit_stays() returns trigger language plpgsql as $$ begin raise exception 'what stands in the audit stays there'; end $$`,
  `create trigger audit_stays before update or delete or truncate on audit for each statement execute function audit_stays()`,
]

export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}
