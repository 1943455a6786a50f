import { type Kysely, sql } from 'kysely'

/** Where publications put what they read of the rows of a source: handles are of one sequence with those of tags. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table row_value (
    source_id uuid not null references source on delete cascade, at text not null, part text not null, column_name text not null, data_type text not null,
    handle int not null unique default nextval(pg_get_serial_sequence('tag', 'handle')),
    primary key (source_id, at, part, column_name, data_type))`.execute(db)
}
