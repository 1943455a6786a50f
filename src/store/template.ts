import { newId } from '~/contract/id'
import type { TagTemplate, TagTemplateDraft } from '~/contract/tag'
import { type Db, explain } from './database'

const words = { tag_template_name: { field: 'name', message: 'Another template has this name' } }

export const listTemplates = (db: Db): Promise<TagTemplate[]> => db.selectFrom('tag_template').selectAll().orderBy('name').execute()

export async function addTemplate(db: Db, draft: TagTemplateDraft): Promise<TagTemplate> {
  const id = newId()
  try {
    await db
      .insertInto('tag_template')
      .values({ id, name: draft.name, parameters: JSON.stringify(draft.parameters), rows: JSON.stringify(draft.rows) })
      .execute()
  } catch (e) {
    throw explain(e, words)
  }
  return { ...draft, id }
}

export async function removeTemplate(db: Db, id: string): Promise<void> {
  await db.deleteFrom('tag_template').where('id', '=', id).execute()
}
