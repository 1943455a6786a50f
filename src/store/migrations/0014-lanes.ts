import { type Kysely, sql } from 'kysely'

const statements = [
  // A lane is a connection with an outbox of its own: that of a destination, or of one node that speaks there by itself.
  `alter table destination add column parent_id uuid references destination on delete cascade, add column node text not null default '',
    add constraint destination_lane check ((parent_id is null) = (node = ''))`,
  `create unique index destination_node on destination (parent_id, node) where parent_id is not null`,
  // By which delivery a version goes out: on its lane its filter is read back.
  `alter table publication_version add column delivery int generated always as ((plan->>'delivery')::int) stored`,
]

export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}
