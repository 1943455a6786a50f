import type { DestinationDraft } from '~/contract/destination'
import type { HubSettings } from '~/contract/destinations/hub'
import type { MqttSettings } from '~/contract/destinations/mqtt'
import { FailureError } from '~/contract/failure'
import { filledFor } from '~/core/hub/profile'
import type { Conn } from './database'
import { laneName } from './lane-name'

/** Somebody who connects to a broker, under these client ids. */
export interface Speaker {
  kind: 'destination' | 'source'
  id: string
  host: string
  port: number
  /** By the field in which each stands. */
  clientIds: Readonly<Record<string, string>>
}

interface Row extends Speaker {
  name: string
}

interface Ids {
  clientId: string
  witness?: boolean
  witnessClientId?: string
}

/** Somebody who connects for a destination; null: its kind has no names that must be its own. */
export function speakerFor(id: string, { kind, settings }: Pick<DestinationDraft, 'kind' | 'settings'>): Speaker | null {
  if (kind === 'mqtt') return brokerSpeaker(id, settings as MqttSettings)
  return kind === 'hub' ? hubSpeaker(id, settings as HubSettings) : null
}

/** A hub knows a unit by its name, which is its client id there. */
function hubSpeaker(id: string, s: HubSettings): Speaker {
  const { host, port, unit, profile } = s
  return { kind: 'destination', id, host, port, clientIds: { 'settings.unit': filledFor(profile.clientId, { host, port, unit }) } }
}

const brokerSpeaker = (id: string, s: MqttSettings): Speaker => ({ kind: 'destination', id, host: s.host, port: s.port, clientIds: clientIdsOf(s) })

/** The client ids of a destination (its own and its witness's) or of a source of topics. */
export function clientIdsOf({ clientId, witness, witnessClientId }: Ids): Record<string, string> {
  return { 'settings.clientId': clientId, ...(witness && witnessClientId !== undefined && { 'settings.witnessClientId': witnessClientId }) }
}

/** Settings of a lane beside the destination's own: those of its destination, under client ids of its own. */
export function laneSettings(settings: MqttSettings, node: string): MqttSettings {
  return { ...settings, clientId: `${settings.clientId}/${node}`, witnessClientId: `${settings.witnessClientId}/${node}` }
}

async function destinationsAndLanes(db: Conn): Promise<Row[]> {
  const rows = await db
    .selectFrom('destination as d')
    .leftJoin('destination as p', 'p.id', 'd.parent_id')
    .select(['d.id', 'd.kind', 'd.name', 'd.node', 'd.settings', 'p.name as parent', 'p.settings as parentSettings'])
    .where('d.kind', 'in', ['mqtt', 'hub'])
    .execute()
  return rows.flatMap(({ id, kind, name, node, settings, parent, parentSettings }) => {
    const own = parentSettings === null ? settings : laneSettings(parentSettings as MqttSettings, node)
    const speaker = speakerFor(id, { kind, settings: own } as Pick<DestinationDraft, 'kind' | 'settings'>)
    return speaker ? [{ ...speaker, name: parent === null ? name : laneName(parent, node) }] : []
  })
}

async function topicSources(db: Conn): Promise<Row[]> {
  const rows = await db.selectFrom('source').select(['id', 'name', 'settings']).where('kind', '=', 'mqtt').execute()
  return rows.map(({ id, name, settings }) => {
    const own = settings as unknown as Ids & { host: string; port: number }
    return { kind: 'source', id, name, host: own.host, port: own.port, clientIds: clientIdsOf(own) }
  })
}

const here = new Set(['localhost', '127.0.0.1', '::1', '[::1]'])
const placeOf = ({ host, port }: { host: string; port: number }) => `${here.has(host.toLowerCase()) ? 'here' : host.toLowerCase()}:${port}`

/**
 * Refuses a client id that another destination, its witness or a source of topics has at the same broker: a broker ends the older of
 * two connections with one client id (MQTT 5 3.1.4), so that the two would throw each other out for ever.
 */
export async function demandOwnClientIds(db: Conn, s: Speaker | null): Promise<void> {
  if (s === null) return
  const fields: Record<string, string> = {}
  for (const other of [...(await destinationsAndLanes(db)), ...(await topicSources(db))]) {
    if ((other.kind === s.kind && other.id === s.id) || placeOf(other) !== placeOf(s)) continue
    const theirs = Object.entries(other.clientIds)
    for (const [field, clientId] of Object.entries(s.clientIds)) {
      const whose = theirs.find(([, id]) => id === clientId)
      if (!whose) continue
      const by = whose[0] === 'settings.witnessClientId' ? `the witness of ${other.name}` : `the ${other.kind} ${other.name}`
      const what = field === 'settings.unit' ? 'this identity at the same hub' : 'this client id at the same broker'
      fields[field] = `${by} has ${what}: each would end the other's connection`
    }
  }
  const [first] = Object.values(fields)
  if (first === undefined) return
  const message = `${first[0]!.toUpperCase()}${first.slice(1)}`
  const hint = fields['settings.unit'] ? 'Have another identity made at the hub; nothing was saved' : 'Choose another client id; nothing was saved'
  throw new FailureError({ code: 'client-id.taken', message, hint, where: s.kind, fields }, 422)
}
