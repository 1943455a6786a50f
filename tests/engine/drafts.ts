import type { PublicationDraft } from '~/contract/publication'
import type { Db } from '~/store/database'
import { freeze } from '~/store/freeze'
import { changePublication, getPublication, goLive } from '~/store/publication'

/** Changes a publication and lets that go live. */
export async function publishedDraft({ db }: { db: Db }, id: string, part: Partial<PublicationDraft>): Promise<void> {
  const now = await getPublication(db, id)
  await changePublication(db, id, { ...now, ...part })
  await goLive(db, id, 'test', freeze)
}
