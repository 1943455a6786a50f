import type { Destination } from '~/contract/destination'
import { DatagramSettings } from '~/contract/destinations/datagram'
import { ShapeSettings } from '~/contract/shape'
import { relayGroup } from '~/standins/plant'
import type { standinPorts } from '~/standins/ports'
import type { Db } from '~/store/database'
import { addDestination, changeDestination } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { listPublications } from '~/store/publication'
import { addPublication, changePublication } from '~/store/publication-edit'

const NAME = 'Kiln zones, in datagrams'
const BY = 'Ines Rook'
const placeOf = (ports: ReturnType<typeof standinPorts>) => `127.0.0.1:${ports.relay}`
const relaysOf = (ports: ReturnType<typeof standinPorts>) => `${placeOf(ports)} > ${relayGroup}:${ports.relayGroup}`

/** The network of the hall, to which the kiln's zones go as datagrams over a relay. */
export async function seedHall(db: Db, ports: ReturnType<typeof standinPorts>, zones: string[]): Promise<void> {
  const { id: destinationId } = await addDestination(db, {
    name: 'Works network',
    kind: 'datagram',
    enabled: true,
    settings: DatagramSettings.parse({
      from: '127.0.0.1',
      retryMs: 1000,
      perSecond: 2000,
      witness: true,
      relays: relaysOf(ports),
      lateS: 10,
      outboxMb: 200,
    }),
  })
  const made = await addPublication(db, {
    name: NAME,
    equipmentIds: zones,
    trigger: { kind: 'every', seconds: 5 },
    shape: ShapeSettings.parse({ kind: 'pubsub-uadp', publisherId: 77 }),
    address: { kind: 'datagram', topic: placeOf(ports) },
    steersOnly: false,
    destinationId,
  })
  await goLive(db, made.id, BY, freeze)
}

/** The ports moved: where the relay is stands in the publication too. */
export async function moveHall(db: Db, ports: ReturnType<typeof standinPorts>, d: Destination): Promise<void> {
  if (d.name !== 'Works network' || d.kind !== 'datagram' || d.settings.relays === relaysOf(ports)) return
  await changeDestination(db, d.id, { ...d, settings: { ...d.settings, relays: relaysOf(ports) } })
  const p = (await listPublications(db)).find((one) => one.name === NAME && one.destinationId === d.id)
  if (!p) return
  const { id, version: _v, state, liveVersion: _l, editedSinceLive: _e, ...draft } = p
  await changePublication(db, id, { ...draft, address: { kind: 'datagram', topic: placeOf(ports) } })
  if (state === 'live') await goLive(db, id, BY, freeze)
}
