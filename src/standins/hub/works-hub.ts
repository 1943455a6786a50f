import { Stream } from '../stream/stream'
import { HubAuthority } from './authority'
import { Hub } from './hub'
import { Registry } from './registry'

/** Who may read the events of a hub. */
const READER = { user: 'events', password: 'clay-events-9' }
const PARTITIONS = 3

export interface WorksHub {
  hub: Hub
  events: Stream
  stop(): Promise<void>
}

/** A hub with its registry and its events, each on a port of its own; who signs there is made anew with each start. */
export async function startHub(by: Hub['o']['by'], ports: { hub: number; registry: number; events: number }, most: number): Promise<WorksHub> {
  const name = by === 'token' ? 'tarn' : 'fell'
  const authority = await HubAuthority.make(`${name[0]!.toUpperCase()}${name.slice(1)} root`)
  const { certificate, key } = await authority.sign(`${name} hub`, 'server')
  const topic = `${name}-events`
  const events = await Stream.start({
    listeners: [{ name: 'tls', ports: [ports.events], tls: { cert: certificate, key }, users: { [READER.user]: READER.password } }],
    topics: { [topic]: PARTITIONS },
    permissions: { [READER.user]: { write: [], read: [topic] } },
    most,
  })
  const tls = { certificate, key, ca: authority.root }
  const hub = await Hub.start({ by, host: '127.0.0.1', port: ports.hub, tls, events: { stream: events, topic } })
  const servers = `127.0.0.1:${ports.events}`
  const registry = await Registry.start({ port: ports.registry, hub, authority, events: { servers, topic, ...READER } })
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
