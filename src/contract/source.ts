import { z } from 'zod'
import { Id, Name } from './id'
import { HttpSettings } from './sources/http'
import { ModbusSettings } from './sources/modbus'
import { MqttSourceSettings } from './sources/mqtt'
import { OpcUaSettings } from './sources/opcua'
import { SimulatedSettings } from './sources/simulated'
import { SqlSettings } from './sources/sql'
import { DataType } from './tag'
import { WireScalar } from './value'

/** The settings of each kind of source: one protocol, one schema. */
export const sourceSettings = {
  opcua: OpcUaSettings,
  modbus: ModbusSettings,
  mqtt: MqttSourceSettings,
  sql: SqlSettings,
  http: HttpSettings,
  simulated: SimulatedSettings,
} as const

export const SourceKind = z.enum(['opcua', 'modbus', 'mqtt', 'sql', 'http', 'simulated'])
export type SourceKind = z.infer<typeof SourceKind>
export type SettingsOf<K extends SourceKind> = z.infer<(typeof sourceSettings)[K]>

const drafted = {
  name: Name,
  enabled: z.boolean().default(true),
  password: z.string().max(4000).optional().describe('Password or token. Write only: kept encrypted, never returned; left out keeps the one stored'),
}
const kept = {
  name: Name,
  enabled: z.boolean(),
  id: Id,
  hasPassword: z.boolean(),
  version: z.number().int(),
  tagCount: z.number().int(),
}
const unionOf = <S extends z.core.$ZodLooseShape>(more: S) =>
  z.discriminatedUnion('kind', [
    z.object({ kind: z.literal('opcua'), settings: OpcUaSettings, ...more }),
    z.object({ kind: z.literal('modbus'), settings: ModbusSettings, ...more }),
    z.object({ kind: z.literal('mqtt'), settings: MqttSourceSettings, ...more }),
    z.object({ kind: z.literal('sql'), settings: SqlSettings, ...more }),
    z.object({ kind: z.literal('http'), settings: HttpSettings, ...more }),
    z.object({ kind: z.literal('simulated'), settings: SimulatedSettings, ...more }),
  ])

export const SourceDraft = unionOf(drafted)
export type SourceDraft = z.infer<typeof SourceDraft>

export const Source = unionOf(kept)
export type Source = z.infer<typeof Source>

/** A draft to be checked; `id` lets a stored password stand in for one that wasn't typed again. */
export const SourceCheck = unionOf({ ...drafted, id: Id.optional() })
export type SourceCheck = z.infer<typeof SourceCheck>

/** Whether a source with these settings keeps a password or token of its own. */
export function keepsSecret(s: Pick<SourceDraft, 'kind' | 'settings'>): boolean {
  const one = s as SourceDraft
  switch (one.kind) {
    case 'opcua':
      return one.settings.login === 'user'
    case 'http':
      return one.settings.login !== 'none'
    case 'sql':
      return true
    default:
      return false
  }
}

/** Credentials that a source refers to, by id. */
export function credentialsOf(s: Pick<SourceDraft, 'kind' | 'settings'>): string[] {
  const { authorityId, credentialId, proxyCredentialId } = s.settings as Readonly<Record<string, unknown>>
  return [authorityId, credentialId, proxyCredentialId].filter((id): id is string => typeof id === 'string')
}

/** What a source is used for: shown before it is changed or removed. */
export const SourceUse = z.object({
  tags: z.number().int(),
  equipment: z.array(z.string()),
  publications: z.array(z.object({ name: z.string(), live: z.boolean() })),
})
export type SourceUse = z.infer<typeof SourceUse>

/** One node of what a source offers: an object or folder, or something a tag can be made of. */
export const BrowseNode = z.object({
  address: z.string(),
  name: z.string(),
  kind: z.enum(['folder', 'variable']),
  hasChildren: z.boolean(),
  dataType: z.string().optional(),
  unit: z.string().optional(),
  description: z.string().optional(),
  value: z.string().optional(),
  writable: z.boolean().optional(),
  path: z.string().optional().describe('Names from the root, with / between'),
})
export type BrowseNode = z.infer<typeof BrowseNode>

export const BrowseQuery = z.object({ address: z.string().default(''), deep: z.boolean().default(false) })

/** Nodes whose values are to be seen before tags are made of them. */
export const WatchNodes = z.object({
  nodes: z
    .array(z.object({ address: z.string().min(1).max(1000), dataType: DataType }))
    .min(1)
    .max(500),
})
export type WatchNodes = z.infer<typeof WatchNodes>

export const WatchedValues = z.object({
  values: z.array(
    z.object({
      address: z.string(),
      value: WireScalar,
      status: z.number(),
      time: z.number().describe('Epoch ms'),
    }),
  ),
  problem: z.object({ message: z.string(), hint: z.string() }).optional(),
})
export type WatchedValues = z.infer<typeof WatchedValues>
