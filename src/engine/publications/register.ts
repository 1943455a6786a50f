import { fail } from '~/contract/failure'
import { neededSchemas, type RegisteredSchema } from '~/core/publication/registered'
import type { Db } from '~/store/database'
import { getDestination } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { getPublication } from '~/store/publication'
import { transacted } from '~/store/transacted'
import type { Clock } from '../clock/clock'
import type { DestinationTarget } from '../destinations/driver'
import { driverOf } from '../destinations/registry'

/** Each is a request to the registry, and somebody waits for the go-live. */
const MOST = 200

/** Has the registry of its destination know all schemas of a publication as it would go live now; nothing where it needs none. */
export async function registerFor(
  db: Db,
  publicationId: string,
  target: (d: Awaited<ReturnType<typeof getDestination>>) => Promise<DestinationTarget>,
  clock: Clock,
): Promise<RegisteredSchema[]> {
  const { needed, destination } = await transacted(db, async (tx) => {
    const body = await freeze(await getPublication(tx, publicationId), tx)
    return { needed: neededSchemas({ ...body, number: 0 }), destination: await getDestination(tx, body.destinationId) }
  })
  const { register } = driverOf(destination.kind)
  if (needed.length > MOST)
    throw fail(
      409,
      'schemas.many',
      `It needs ${needed.length} schemas in the registry, and ${MOST} are registered in one go at most`,
      'Name a subject that more messages share: {class}, not {place}',
      'publication',
    )
  return needed.length > 0 && register ? register(await target(destination), needed, clock) : []
}
