import { type RawBuilder, sql } from 'kysely'
import type { Found, FoundKind } from '~/contract/find'
import type { Conn } from './database'

/** Words beyond these say nothing new. */
const WORDS_MAX = 8

const forLike = (word: string) => `%${word.replace(/[\\%_]/g, '\\$&')}%`
const forPattern = (word: string) => `\\m${word.replace(/[^\p{L}\p{N}\s]/gu, '\\$&')}\\M`

/**
 * Everything of all kinds in whose name all words are, in any order: first what is called just so (wholly, or behind its last slash),
 * then what has most of them as whole words, then what begins so, then the shortest. At most `most` of a kind.
 */
export async function findNamed(db: Conn, query: string, most: number, kinds: ReadonlySet<FoundKind>): Promise<Found[]> {
  const words = query.toLowerCase().split(/\s+/).filter(Boolean).slice(0, WORDS_MAX)
  if (words.length === 0) return []
  const whole = query.trim().toLowerCase()
  const like = sql`array[${sql.join(words.map((w) => sql`${forLike(w)}`))}]::text[]`
  const wholeWords = sql.join(
    words.map((w) => sql`(name ~* ${forPattern(w)})::int`),
    sql` + `,
  )
  const tables: Record<FoundKind, RawBuilder<unknown>> = {
    tag: sql`select id::text, name, case when unit <> '' then unit else data_type end as aside from tag`,
    equipment: sql`select id::text, name, level as aside from equipment`,
    class: sql`select id::text, name, 'class' as aside from equipment_class`,
    publication: sql`select id::text, name, state as aside from publication`,
    source: sql`select id::text, name, kind as aside from source`,
    destination: sql`select id::text, name, kind as aside from destination where parent_id is null`,
    credential: sql`select id::text, name, kind as aside from credential`,
    topic: sql`select p.id::text, m->>'place' as name, p.name as aside from publication p
      join publication_version v on v.publication_id = p.id and v.number = p.live_version cross join jsonb_array_elements(v.plan->'messages') m
      where p.state <> 'draft'`,
  }
  const parts = [...kinds].map(
    (
      kind,
    ) => sql`(select ${kind}::text as kind, id, name, aside, (lower(name) = ${whole} or lower(name) like ${`%/${forLike(whole).slice(1, -1)}`}) as exact
      from (${tables[kind]}) t where name ilike all(${like})
      order by (lower(name) = ${whole}) desc, exact desc, ${wholeWords} desc, (lower(name) like ${forLike(whole).slice(1)}) desc, length(name), name
      limit ${most})`,
  )
  const rows = await sql<Found>`${sql.join(parts, sql` union all `)}`.execute(db)
  return rows.rows
}
