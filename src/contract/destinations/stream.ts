import { z } from 'zod'
import { ClientId, Id } from '../id'
import { serversOf } from '../place'
import { webAddress } from './http'
import { outboxTerms, paceTerms, windowTerm, witnessTerms } from './terms'

/** A cluster of the Kafka protocol. */
export const StreamSettings = z
  .object({
    servers: z
      .string()
      .trim()
      .min(1, 'Which servers?')
      .max(4000)
      .refine((text) => serversOf(text) !== null, 'Name and port of each, with commas between them: kafka-1:9092, kafka-2:9092')
      .meta({ label: 'Servers', help: 'One is enough to find the others; more help when that one is away', group: 'Reach' }),
    tls: z.boolean().meta({ label: 'TLS', group: 'Security' }),
    authorityId: Id.nullable().meta({ label: 'Trusted authority', help: 'Which CA signed the nodes', group: 'Security' }),
    clientId: ClientId.meta({ label: 'Client id', help: 'Under which the cluster counts what is sent, and sets quotas', group: 'Identity' }),
    mechanism: z
      .enum(['none', 'PLAIN', 'SCRAM-SHA-256', 'SCRAM-SHA-512'])
      .default('none')
      .meta({ label: 'Log-in by', help: 'SASL mechanism; none where a certificate says who it is, or nobody asks', group: 'Identity' }),
    credentialId: Id.nullable().meta({ label: 'Certificate or log-in', group: 'Identity' }),
    acks: z.enum(['all', 'leader']).default('all').meta({
      label: 'Acknowledged by',
      help: 'All copies that are up, and each message once; or the leader alone, which may lose what it had',
      group: 'Pace',
    }),
    compression: z.enum(['none', 'gzip', 'zstd', 'snappy', 'lz4']).default('none').meta({ label: 'Compression', group: 'Pace' }),
    lingerMs: z
      .number()
      .int()
      .min(0)
      .max(5000)
      .default(5)
      .meta({ label: 'Gathered for', unit: 'ms', help: 'A batch goes when it is full, or after this', group: 'Pace' }),
    batchKb: z.number().int().min(1).max(10_000).default(256).meta({ label: 'Batch up to', unit: 'kB', group: 'Pace' }),
    ...paceTerms,
    ...windowTerm(2000, 'Messages sent ahead of their acknowledgement'),
    ...witnessTerms,
    witnessCredentialId: Id.nullable().meta({ label: 'Witness certificate or log-in', group: 'Witness' }),
    registryUrl: z
      .string()
      .trim()
      .max(2000)
      .default('')
      .refine((text) => text === '' || webAddress(text)?.search === '', 'Like https://schemas.example:8081')
      .meta({ label: 'Schema registry', help: 'Which gives schemas their numbers, where a shape begins with one. Empty: none', group: 'Schemas' }),
    registryAuthorityId: Id.nullable()
      .default(null)
      .meta({ label: 'Registry authority', help: 'Which CA signed it; none: those that this machine trusts', group: 'Schemas' }),
    registryCredentialId: Id.nullable().default(null).meta({ label: 'Registry log-in', group: 'Schemas' }),
    ...outboxTerms,
  })
  .superRefine((s, ctx) => {
    if (s.tls && !s.authorityId) ctx.addIssue({ code: 'custom', path: ['authorityId'], message: 'TLS needs the authority that signed the nodes' })
    if (s.mechanism !== 'none' && !s.credentialId) ctx.addIssue({ code: 'custom', path: ['credentialId'], message: 'Which user and password?' })
  })
export type StreamSettings = z.infer<typeof StreamSettings>
