import { sql } from 'kysely'
import type { Version } from '~/contract/version'
import type { Conn } from './database'
import { getPublication } from './publication'

const TOLD = 100

/** What was frozen at each go-live of a publication, the newest first. */
export async function listVersions(db: Conn, publicationId: string): Promise<Version[]> {
  const { liveVersion, state } = await getPublication(db, publicationId)
  const { rows } = await sql<Omit<Version, 'madeAt' | 'live'> & { madeAt: Date }>`
    select number, made_at as "madeAt", made_by as "madeBy", (plan->>'backTo')::int as "backTo", note,
      (select coalesce(json_agg(a->>'message'), '[]') from jsonb_array_elements(accepted) a) as accepted,
      jsonb_array_length(plan->'equipment') as equipment, jsonb_array_length(plan->'messages') as messages
    from publication_version where publication_id = ${publicationId} order by number desc limit ${TOLD}`.execute(db)
  return rows.map(({ madeAt, ...v }) => ({ ...v, madeAt: madeAt.toISOString(), live: state === 'live' && v.number === liveVersion }))
}
