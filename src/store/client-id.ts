import type { DestinationDraft } from '~/contract/destination'
import type { MqttSettings } from '~/contract/destinations/mqtt'
import { FailureError } from '~/contract/failure'
import type { Conn } from './database'

/** Somebody who connects to a broker, under these client ids. */
export interface Speaker {
  kind: 'destination' | 'source'
  id: string
  host: string
  port: number
  /** By the field in which each stands. */
  clientIds: Readonly<Record<string, string>>
}

interface Row {
  kind: 'destination' | 'source'
  id: string
  name: string
  settings: { host: string; port: number; clientId: string; witness?: boolean; witnessClientId?: string }
}

/** Somebody who connects for a destination; null: its kind has no names that must be its own. */
export const speakerFor = (id: string, { kind, settings }: Pick<DestinationDraft, 'kind' | 'settings'>): Speaker | null =>
  kind === 'mqtt' ? brokerSpeaker(id, settings as MqttSettings) : null

const brokerSpeaker = (id: string, s: MqttSettings): Speaker => ({ kind: 'destination', id, host: s.host, port: s.port, clientIds: clientIdsOf(s) })

/** The client ids of a destination (its own and its witness's) or of a source of topics. */
export function clientIdsOf({ clientId, witness, witnessClientId }: Row['settings']): Record<string, string> {
  return { 'settings.clientId': clientId, ...(witness && witnessClientId !== undefined && { 'settings.witnessClientId': witnessClientId }) }
}

/** Settings of a node's own connection: those of its destination, under client ids of its own (no name of a node has a slash in it). */
export function laneSettings(settings: MqttSettings, node: string): MqttSettings {
  return { ...settings, clientId: `${settings.clientId}/${node}`, witnessClientId: `${settings.witnessClientId}/${node}` }
}

async function destinationsAndLanes(db: Conn): Promise<Row[]> {
  const rows = await db
    .selectFrom('destination as d')
    .leftJoin('destination as p', 'p.id', 'd.parent_id')
    .select(['d.id', 'd.name', 'd.node', 'd.settings', 'p.name as parent', 'p.settings as parentSettings'])
    .where('d.kind', '=', 'mqtt')
    .execute()
  return rows.map(({ id, name, node, settings, parent, parentSettings }) => ({
    kind: 'destination',
    id,
    name: parent === null ? name : `${parent}, node ${node}`,
    settings: (parentSettings === null ? settings : laneSettings(parentSettings as MqttSettings, node)) as MqttSettings,
  }))
}

const here = new Set(['localhost', '127.0.0.1', '::1', '[::1]'])
const placeOf = ({ host, port }: { host: string; port: number }) => `${here.has(host.toLowerCase()) ? 'here' : host.toLowerCase()}:${port}`

/**
 * Refuses a client id that another destination, its witness or a source of topics has at the same broker: a broker ends the older of
 * two connections with one client id (MQTT 5 3.1.4), so that the two would throw each other out for ever.
 */
export async function demandOwnClientIds(db: Conn, s: Speaker | null): Promise<void> {
  if (s === null) return
  const rows: Row[] = [
    ...(await destinationsAndLanes(db)),
    ...(await db.selectFrom('source').select(['id', 'name', 'settings']).where('kind', '=', 'mqtt').execute()).map((r) => ({
      ...r,
      kind: 'source' as const,
      settings: r.settings as unknown as Row['settings'],
    })),
  ]
  const fields: Record<string, string> = {}
  for (const other of rows) {
    if ((other.kind === s.kind && other.id === s.id) || placeOf(other.settings) !== placeOf(s)) continue
    const theirs = Object.entries(clientIdsOf(other.settings))
    for (const [field, clientId] of Object.entries(s.clientIds)) {
      const whose = theirs.find(([, id]) => id === clientId)
      if (!whose) continue
      const by = whose[0] === 'settings.witnessClientId' ? `the witness of ${other.name}` : `the ${other.kind} ${other.name}`
      fields[field] = `${by} has this client id at the same broker: each would end the other's connection`
    }
  }
  const [first] = Object.values(fields)
  if (first === undefined) return
  const message = `${first[0]!.toUpperCase()}${first.slice(1)}`
  throw new FailureError({ code: 'client-id.taken', message, hint: 'Choose another client id; nothing was saved', where: s.kind, fields }, 422)
}
