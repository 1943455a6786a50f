import { Stream } from '../stream/stream'
import { HubAuthority } from './authority'
import { Hub } from './hub'
import { eventsReader, hubName, keepHub, keptHub } from './kept'
import { Registry } from './registry'

const PARTITIONS = 3

export interface WorksHub {
  hub: Hub
  events: Stream
  stop(): Promise<void>
}

/** A hub with its registry and its events, each on a port of its own; what it knows stands in the folder. */
export async function startHub(
  by: Hub['o']['by'],
  ports: { hub: number; registry: number; events: number },
  most: number,
  folder: string,
): Promise<WorksHub> {
  const name = hubName(by)
  const before = await keptHub(folder, by)
  const authority = await HubAuthority.again(before.authority)
  const { certificate, key } = await authority.sign(`${name} hub`, 'server')
  const topic = `${name}-events`
  const events = await Stream.start({
    listeners: [{ name: 'tls', ports: [ports.events], tls: { cert: certificate, key }, users: { [eventsReader.user]: eventsReader.password } }],
    topics: { [topic]: PARTITIONS },
    permissions: { [eventsReader.user]: { write: [], read: [topic] } },
    most,
  })
  const tls = { certificate, key, ca: authority.root }
  const hub = await Hub.start({ by, host: '127.0.0.1', port: ports.hub, tls, events: { stream: events, topic }, most })
  for (const unit of before.units) hub.units.put(unit)
  let writing = Promise.resolve()
  const changed = () => {
    writing = writing.then(() => keepHub(folder, by, { ...before, units: hub.units.kept() }))
    return writing
  }
  const servers = `127.0.0.1:${ports.events}`
  const registry = await Registry.start({ port: ports.registry, hub, authority, events: { servers, topic, ...eventsReader }, changed })
  return {
    hub,
    events,
    stop: async () => {
      await registry.stop()
      await hub.stop()
      await events.stop()
    },
  }
}
