import { sql } from 'kysely'
import type { Conn, Db } from './database'

/** So much is written in one statement. */
const AT_ONCE = 2000

/** What the steps of a publication kept, by its place in them. */
export async function memoryOf(db: Conn, publicationId: string): Promise<Map<string, string>> {
  const rows = await db.selectFrom('publication_memory').select(['place', 'kept']).where('publication_id', '=', publicationId).execute()
  return new Map(rows.map((r) => [r.place, r.kept]))
}

/** Keeps what they keep now; of a publication that is gone nothing. */
export async function keepMemory(db: Db, publicationId: string, entries: readonly (readonly [place: string, kept: string])[]): Promise<void> {
  for (let i = 0; i < entries.length; i += AT_ONCE) {
    const some = entries.slice(i, i + AT_ONCE)
    await sql`insert into publication_memory (publication_id, place, kept)
      select id, k.place, k.kept from publication, unnest(${some.map((e) => e[0])}::text[], ${some.map((e) => e[1])}::text[]) as k (place, kept)
      where id = ${publicationId}
      on conflict (publication_id, place) do update set kept = excluded.kept`.execute(db)
  }
}

/** Forgets what no step of it keeps any more. */
export async function forgetMemory(db: Conn, publicationId: string, places: readonly string[]): Promise<void> {
  await sql`delete from publication_memory where publication_id = ${publicationId} and place = any(${places}::text[])`.execute(db)
}
