import { sql } from 'kysely'

/** Publication `p` sends tag `t` without equipment: as `isPicked` says. */
export const pickedBy = sql<boolean>`(p.draft ? 'tags'
  and (p.draft->'tags'->>'folder' = '' or starts_with(t.name, (p.draft->'tags'->>'folder') || '/'))
  and (p.draft->'tags'->>'text' = '' or position(lower(p.draft->'tags'->>'text') in lower(t.name)) > 0))`
