import { z } from 'zod'
import { ClientId, Id } from '../id'
import { outboxTerms, paceTerms, witnessTerms } from './terms'

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
    clientId: ClientId.meta({ label: 'Client id', help: 'One connection a client id', group: 'Identity' }),
    credentialId: Id.nullable().meta({ label: 'Certificate or log-in', group: 'Identity' }),
    keepAliveS: z.number().int().min(5, 'At least 5 s').max(3600).meta({ label: 'Keep-alive', unit: 's', group: 'Pace' }),
    ...paceTerms,
    window: z.number().int().min(1).max(5000).meta({ label: 'In flight', help: 'Messages sent ahead of their acknowledgement', group: 'Pace' }),
    ...witnessTerms,
    witnessClientId: z.string().trim().max(200).meta({ label: 'Witness client id', group: 'Witness' }),
    witnessCredentialId: Id.nullable().meta({ label: 'Witness certificate or log-in', group: 'Witness' }),
    ...outboxTerms,
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
