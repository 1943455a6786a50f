import { type Kysely, sql } from 'kysely'

/** Sources of several kinds; tags with a range, access, a rate and a signal of their own. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}

const statements = [
  `update source set settings = '{"credentialId":null,"samplingMs":0,"queue":10,"deadbands":"here"}'::jsonb || settings`,
  // Two tags may well have the same signal; nodes and registers stay one tag each by a check when they are added.
  `drop index tag_address`,
  `create index tag_address on tag (source_id, address)`,
  `alter table tag add column range jsonb, add column access text not null default 'read', add column sample_ms int,
    add column signal text not null default '', add column simulated boolean not null default false`,
]
