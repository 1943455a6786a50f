import type { AsideWhole, SendAgain } from '~/contract/aside'
import { fail } from '~/contract/failure'
import { getAside, sentAgain } from '~/store/aside'
import { database } from './context'
import { askEngine } from './engine-client'

/** Sends a message that went aside again, mended or as it was. */
export async function sendAgain(id: number, { topic, payload }: SendAgain, by: string, signal: AbortSignal): Promise<AsideWhole> {
  const { aside, delivery, properties } = await getAside(database(), id)
  if (payload === undefined && aside.octets !== null && aside.kept < aside.octets)
    throw fail(409, 'aside.cut', `Only ${aside.kept} of its ${aside.octets} octets are kept`, 'Send it with a payload of yours', 'destination')
  const body = { delivery, topic: topic ?? aside.topic, payload: payload ?? aside.payload, properties, assurance: aside.assurance }
  const { seq } = (await (await askEngine('/asides/send', { body, signal })).json()) as { seq: number }
  await sentAgain(database(), id, seq, by)
  return (await getAside(database(), id)).aside
}
