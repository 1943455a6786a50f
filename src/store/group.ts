import { sql } from 'kysely'
import { fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import type { Group, GroupDraft } from '~/contract/tag'
import { announce, type Conn, type Db, explain } from './database'
import { transacted } from './transacted'

const words = {
  sampling_group_name: { field: 'name', message: 'Another sampling group has this name' },
  tag_group: { field: 'id', message: 'Tags belong to it' },
}

export async function listGroups(db: Conn): Promise<Group[]> {
  const found = await sql<Group>`select g.id, g.name, g.sample_ms as "sampleMs", count(t.id)::int as tags
    from sampling_group g left join tag t on t.group_id = g.id group by g.id order by g.name`.execute(db)
  return found.rows
}

export async function addGroup(db: Db, draft: GroupDraft): Promise<Group> {
  const id = newId()
  try {
    await db.insertInto('sampling_group').values({ id, name: draft.name, sample_ms: draft.sampleMs }).execute()
  } catch (e) {
    throw explain(e, words)
  }
  return { ...draft, id, tags: 0 }
}

/** Changes a group: its tags are read at the new rate at once. */
export async function changeGroup(db: Db, id: string, draft: GroupDraft): Promise<Group> {
  try {
    return await transacted(db, async (tx) => {
      await tx.updateTable('sampling_group').set({ name: draft.name, sample_ms: draft.sampleMs }).where('id', '=', id).execute()
      await announce(tx, 'tag')
      const group = (await listGroups(tx)).find((g) => g.id === id)
      if (!group) throw fail(404, 'group.unknown', 'There is no such sampling group', 'Refresh the list', 'tag')
      return group
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** Removes a group to which no tag belongs. */
export async function removeGroup(db: Db, id: string): Promise<void> {
  try {
    await db.deleteFrom('sampling_group').where('id', '=', id).execute()
  } catch (e) {
    throw explain(e, words)
  }
}
