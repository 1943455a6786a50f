import type { MqttAddress } from '~/contract/addresses/mqtt'
import type { PublicationDraft } from '~/contract/publication'
import type { Db } from '~/store/database'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'

/** Changes a publication and lets that go live. */
export async function publishedDraft(
  { db }: { db: Db },
  id: string,
  { address = {}, ...part }: Partial<Omit<PublicationDraft, 'address'>> & { address?: Partial<MqttAddress> },
): Promise<void> {
  const now = await getPublication(db, id)
  await changePublication(db, id, { ...now, ...part, address: { ...(now.address as MqttAddress), ...address } })
  await goLive(db, id, 'test', freeze)
}
