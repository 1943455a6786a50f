import { z } from 'zod'
import { Id, Name } from './id'

export const MqttSettings = z
  .object({
    host: z.string().trim().min(1, 'Which host?').max(253).meta({ label: 'Host', group: 'Reach' }),
    port: z
      .number({ error: 'A port number' })
      .int()
      .min(1, 'From 1 to 65535')
      .max(65_535, 'From 1 to 65535')
      .meta({ label: 'Port', help: '8883 for TLS, 1883 plain, unless they say otherwise', group: 'Reach' }),
    protocol: z
      .enum(['5', '3.1.1'])
      .default('5')
      .meta({ label: 'MQTT', help: 'Version 5 carries an id with every message; 3.1.1 only where the broker knows no better', group: 'Reach' }),
    tls: z.boolean().meta({ label: 'TLS', group: 'Security' }),
    authorityId: Id.nullable().meta({ label: 'Trusted authority', help: 'Which CA signed the broker', group: 'Security' }),
    clientId: z
      .string()
      .trim()
      .min(1, 'Which client id?')
      .max(200)
      .regex(/^[^\p{Cc}]+$/u)
      .meta({ label: 'Client id', help: 'One connection a client id', group: 'Identity' }),
    credentialId: Id.nullable().meta({ label: 'Certificate or log-in', group: 'Identity' }),
    keepAliveS: z.number().int().min(5, 'At least 5 s').max(3600).meta({ label: 'Keep-alive', unit: 's', group: 'Pace' }),
    retryMs: z.number().int().min(200, 'At least 200 ms').max(600_000).meta({ label: 'Retry after', unit: 'ms', group: 'Pace' }),
    window: z.number().int().min(1).max(5000).meta({ label: 'In flight', help: 'Messages sent ahead of their acknowledgement', group: 'Pace' }),
    ackS: z
      .number()
      .int()
      .min(2, 'At least 2 s')
      .max(3600)
      .default(20)
      .meta({ label: 'Acknowledged within', unit: 's', help: 'Else Embrik connects anew and sends again', group: 'Pace' }),
    witness: z.boolean().meta({ label: 'Witness', help: 'Read everything back with a connection of its own', group: 'Witness' }),
    witnessClientId: z.string().trim().max(200).meta({ label: 'Witness client id', group: 'Witness' }),
    witnessCredentialId: Id.nullable().meta({ label: 'Witness certificate or log-in', group: 'Witness' }),
    lateS: z
      .number()
      .int()
      .min(1, 'At least 1 s')
      .max(3600)
      .default(30)
      .meta({ label: 'Late after', unit: 's', help: 'Not seen that long after its acknowledgement: missing', group: 'Witness' }),
    outboxMb: z.number().int().min(1).max(1_000_000).meta({ label: 'Outbox up to', unit: 'MB', group: 'Outbox' }),
  })
  .superRefine((s, ctx) => {
    if (s.tls && !s.authorityId) ctx.addIssue({ code: 'custom', path: ['authorityId'], message: 'TLS needs the authority that signed the broker' })
    if (s.witness && !s.witnessClientId) ctx.addIssue({ code: 'custom', path: ['witnessClientId'], message: 'Which client id?' })
    if (s.witness && s.witnessClientId === s.clientId)
      ctx.addIssue({
        code: 'custom',
        path: ['witnessClientId'],
        message: 'Must differ from the sender: two connections with one client id end each other',
      })
  })
export type MqttSettings = z.infer<typeof MqttSettings>

/** The settings of each kind of destination. */
export const destinationSettings = { mqtt: MqttSettings }
export type DestinationKind = keyof typeof destinationSettings
export type DestinationSettings = { [K in DestinationKind]: z.infer<(typeof destinationSettings)[K]> }

export const DestinationDraft = z.object({
  name: Name,
  kind: z.literal('mqtt'),
  settings: MqttSettings,
  enabled: z.boolean().default(true),
})
export type DestinationDraft = z.infer<typeof DestinationDraft>
export const Destination = DestinationDraft.extend({ id: Id, version: z.number().int(), publicationCount: z.number().int() })
export type Destination = z.infer<typeof Destination>

/** A connection with an outbox of its own: that of a destination, or that of one node which speaks there by itself. */
export interface Lane extends Destination {
  /** Whose settings it has; null: it is the destination's own. */
  parentId: string | null
  /** The one that speaks on it: it is only up while somebody does; '': the destination's own, which is always up. */
  node: string
}
