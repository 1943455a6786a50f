import { z } from 'zod'
import { DatagramSettings } from './destinations/datagram'
import { FileSettings } from './destinations/file'
import { HttpSettings } from './destinations/http'
import { HubSettings } from './destinations/hub'
import { MqttSettings } from './destinations/mqtt'
import { StreamSettings } from './destinations/stream'
import { TableSettings } from './destinations/table'
import type { Terms } from './destinations/terms'
import { Id, Name } from './id'

/** The settings of each kind of destination: its own, and the terms that all have. */
export const destinationSettings = {
  mqtt: MqttSettings,
  stream: StreamSettings,
  http: HttpSettings,
  table: TableSettings,
  file: FileSettings,
  datagram: DatagramSettings,
  hub: HubSettings,
}
export type DestinationKind = keyof typeof destinationSettings
export type DestinationSettings = { [K in DestinationKind]: z.infer<(typeof destinationSettings)[K]> & Terms }

const drafted = { name: Name, enabled: z.boolean().default(true) }
const unionOf = <S extends z.core.$ZodLooseShape>(more: S) =>
  z.discriminatedUnion('kind', [
    z.object({ kind: z.literal('mqtt'), settings: destinationSettings.mqtt, ...more }),
    z.object({ kind: z.literal('stream'), settings: destinationSettings.stream, ...more }),
    z.object({ kind: z.literal('http'), settings: destinationSettings.http, ...more }),
    z.object({ kind: z.literal('table'), settings: destinationSettings.table, ...more }),
    z.object({ kind: z.literal('file'), settings: destinationSettings.file, ...more }),
    z.object({ kind: z.literal('datagram'), settings: destinationSettings.datagram, ...more }),
    z.object({ kind: z.literal('hub'), settings: destinationSettings.hub, ...more }),
  ])

export const DestinationDraft = unionOf(drafted)
export type DestinationDraft = z.infer<typeof DestinationDraft>

/** A draft to be checked; `id`: it is there already, and its secrets go where they are meant. */
export const DestinationCheck = unionOf({ ...drafted, id: Id.optional() })
export type DestinationCheck = z.infer<typeof DestinationCheck>

export const Destination = unionOf({ ...drafted, id: Id, version: z.number().int(), publicationCount: z.number().int() })
export type Destination = z.infer<typeof Destination>

/** A connection with an outbox of its own: that of a destination, that of one node which speaks there by itself, or that of what goes ahead. */
export type Lane = Destination & {
  /** Whose settings it has; null: it is the destination's own. */
  parentId: string | null
  /** The one that speaks on it: it is only up while somebody does; '': the destination's own, which is always up. */
  node: string
  /** Publications that go ahead of what waits there speak on it. */
  ahead: boolean
}
