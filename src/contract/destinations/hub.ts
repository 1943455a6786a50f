import { z } from 'zod'
import { reachTerms } from '../broker-reach'
import { HubProfile } from '../hub-profile'
import { Id } from '../id'
import { serversOf } from '../place'
import { webAddress } from './http'
import { outboxTerms, paceTerms, witnessTerms } from './terms'

/** Names of units stand in topics, tokens and certificates. */
const Unit = z
  .string()
  .trim()
  .min(1, 'Which unit?')
  .max(200)
  .regex(/^[^\p{Cc}#+/]*$/u, 'Without / + # and control characters')

const eventTerms = {
  eventsServers: z
    .string()
    .trim()
    .max(4000)
    .refine((text) => text === '' || serversOf(text) !== null, 'Name and port of each, with commas between them: events-1:9092, events-2:9092')
    .default('')
    .meta({ label: 'Events from', help: 'Servers of the stream in which the hub has what it took', group: 'Witness' }),
  eventsTopic: z.string().trim().max(249).default('').meta({ label: 'Topic of events', group: 'Witness' }),
  eventsTls: z.boolean().default(true).meta({ label: 'TLS for events', group: 'Witness' }),
  eventsAuthorityId: Id.nullable().default(null).meta({ label: 'Authority of events', help: 'Which CA signed those servers', group: 'Witness' }),
  eventsMechanism: z
    .enum(['none', 'PLAIN', 'SCRAM-SHA-256', 'SCRAM-SHA-512'])
    .default('none')
    .meta({ label: 'Log-in to events by', group: 'Witness' }),
}

/** A cloud hub over MQTT, spoken to as its profile says. */
export const HubSettings = z
  .object({
    host: z.string().trim().min(1, 'Which host?').max(253).meta({ label: 'Host', group: 'Reach' }),
    port: z.number({ error: 'A port number' }).int().min(1, 'From 1 to 65535').max(65_535, 'From 1 to 65535').meta({ label: 'Port', group: 'Reach' }),
    profile: HubProfile,
    authorityId: Id.nullable().meta({ label: 'Trusted authority', help: 'Which CA signed the hub', group: 'Security' }),
    unit: Unit.meta({ label: 'Device identity', help: 'Under which name the hub knows this sender', group: 'Identity' }),
    credentialId: Id.nullable().meta({ label: 'Key, certificate or log-in', help: 'As the profile wants it', group: 'Identity' }),
    keepAliveS: z.number().int().min(5, 'At least 5 s').max(3600).meta({ label: 'Keep-alive', unit: 's', group: 'Pace' }),
    ...paceTerms,
    window: z.number().int().min(1).max(5000).meta({ label: 'In flight', help: 'Messages sent ahead of their acknowledgement', group: 'Pace' }),
    ...witnessTerms,
    ...eventTerms,
    witnessCredentialId: Id.nullable().meta({ label: 'Witness log-in', help: 'That may read the events', group: 'Witness' }),
    ...outboxTerms,
    registryUrl: z
      .string()
      .trim()
      .max(500)
      .refine((text) => text === '' || webAddress(text)?.search === '', 'As https://registry.example:443')
      .default('')
      .meta({ label: 'Registry', help: 'Where the hub tells what it knows of this identity; empty: it is not asked', group: 'Registry' }),
    registryAuthorityId: Id.nullable()
      .default(null)
      .meta({ label: 'Authority of the registry', help: 'Empty: as this machine trusts', group: 'Registry' }),
    registryCredentialId: Id.nullable().default(null).meta({ label: 'Registry log-in', group: 'Registry' }),
    proxy: reachTerms.proxy,
    proxyCredentialId: reachTerms.proxyCredentialId,
  })
  .superRefine((s, ctx) => {
    const wrong = (path: string, message: string) => ctx.addIssue({ code: 'custom', path: [path], message })
    if (!s.authorityId) wrong('authorityId', 'Hubs speak TLS: which authority signed it?')
    if (!s.credentialId) wrong('credentialId', 'By what does it know this sender?')
    if (!s.witness) return
    if (s.profile.readBack === 'none') return wrong('witness', 'What this hub took cannot be read back, by its profile')
    if (s.eventsServers === '') wrong('eventsServers', 'Where are its events read back?')
    if (s.eventsTopic === '') wrong('eventsTopic', 'Which topic?')
    if (s.eventsTls && !s.eventsAuthorityId) wrong('eventsAuthorityId', 'TLS needs the authority that signed those servers')
    if (s.eventsMechanism !== 'none' && !s.witnessCredentialId) wrong('witnessCredentialId', 'Which user and password?')
  })
export type HubSettings = z.infer<typeof HubSettings>
