import { type Kysely, sql } from 'kysely'

/** Tags with scaling, formats, initial and held values, history and chart settings, and sampling groups. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}

const statements = [
  `create table sampling_group (id uuid primary key, name text not null constraint sampling_group_name unique, sample_ms int not null)`,
  `alter table tag add column format text not null default '', add column scaling jsonb, add column group_id uuid constraint tag_group references sampling_group,
    add column initial jsonb, add column hold text not null default 'nothing', add column history jsonb, add column chart jsonb`,
  `create index tag_group on tag (group_id) where group_id is not null`,
  // A range of its own moves from the deadband to the tag, which had none when only the deadband knew it.
  `update tag set range = jsonb_build_object('low', coalesce((deadband->>'low')::float8, 0), 'high', coalesce((deadband->>'high')::float8, 100))
    where deadband->>'kind' = 'percent' and range is null and coalesce((deadband->>'low')::float8, 0) < coalesce((deadband->>'high')::float8, 100)`,
  `update tag set deadband = deadband - 'low' - 'high' where deadband is not null`,
  // Names may be exchanged within one statement: looked at when it ends, not row by row.
  `alter table tag drop constraint tag_name, add constraint tag_name unique (name) deferrable initially immediate`,
  `create table tag_template (id uuid primary key, name text not null constraint tag_template_name unique, parameters jsonb not null, rows jsonb not null)`,
  // The last value of tags that hold theirs; boot tells whether the machine was started anew since.
  `create table held_value (tag_id uuid primary key references tag on delete cascade, value jsonb, at timestamptz not null, boot text not null) with (fillfactor = 70)`,
]
