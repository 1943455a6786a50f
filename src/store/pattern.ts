import { newId } from '~/contract/id'
import type { TagPattern, TagPatternDraft } from '~/contract/tag'
import { type Db, explain } from './database'

const words = { tag_pattern_name: { field: 'name', message: 'Another pattern has this name' } }

export const listPatterns = (db: Db): Promise<TagPattern[]> => db.selectFrom('tag_pattern').selectAll().orderBy('name').execute()

export async function addPattern(db: Db, draft: TagPatternDraft): Promise<TagPattern> {
  const id = newId()
  try {
    await db
      .insertInto('tag_pattern')
      .values({ id, name: draft.name, parameters: JSON.stringify(draft.parameters), rows: JSON.stringify(draft.rows) })
      .execute()
  } catch (e) {
    throw explain(e, words)
  }
  return { ...draft, id }
}

export async function removePattern(db: Db, id: string): Promise<void> {
  await db.deleteFrom('tag_pattern').where('id', '=', id).execute()
}
