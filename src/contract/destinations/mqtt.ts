import { z } from 'zod'
import { reachTerms } from '../broker-reach'
import { ClientId, Id } from '../id'
import { serversOf } from '../place'
import { outboxTerms, paceTerms, witnessTerms } from './terms'

/** Sessions that never end have this expiry (MQTT 5 3.1.2.11.2). */
const FOR_EVER_S = 4_294_967_295
const WILL_OCTETS = 60_000

/** Several hosts, and what happens when the first does not answer, or names another. */
const hostTerms = {
  otherHosts: z
    .string()
    .trim()
    .max(2000)
    .refine((text) => text === '' || serversOf(text) !== null, 'Name and port of each, with commas between them: standby-1:8883, standby-2:8883')
    .default('')
    .meta({ label: 'Other hosts', help: 'Of the same broker or its stand-by: tried in turn while the first does not answer', group: 'Other hosts' }),
  returnS: z.number().int().min(0).max(86_400, 'At most a day').default(60).meta({
    label: 'Back to the first',
    unit: 's',
    help: 'So often it is looked whether it answers again; 0: stays where it is',
    group: 'Other hosts',
  }),
  redirects: z.boolean().default(false).meta({
    label: 'Follow elsewhere',
    help: 'To a server that the broker names; needs TLS, whose authority then has signed that one too',
    group: 'Other hosts',
  }),
}

/** What the broker remembers, and what it says when this sender is gone. */
const sessionTerms = {
  sessionS: z.number().int().min(0).max(FOR_EVER_S).default(86_400).meta({
    label: 'Session kept',
    unit: 's',
    help: 'So long the broker remembers this sender when it is away; at QoS 2 that keeps copies out',
    group: 'Session',
  }),
  connectsPerMin: z.number().int().min(0).max(600).default(0).meta({
    label: 'Connects at most',
    unit: 'times a minute',
    help: 'Sender and witness together, where the broker counts; 0: as its waits allow',
    group: 'Session',
  }),
  aliases: z.number().int().min(0).max(65_535).default(0).meta({
    label: 'Topic aliases',
    help: 'So many topics go as a number from their second message on, as far as the broker takes them (MQTT 5)',
    group: 'Session',
  }),
  packetKb: z
    .number()
    .int()
    .min(1)
    .max(65_536)
    .default(65_536)
    .meta({ label: 'Takes packets up to', unit: 'kB', help: 'The broker hands the witness nothing larger (MQTT 5)', group: 'Session' }),
}

const willTerms = {
  willTopic: z
    .string()
    .trim()
    .max(1000)
    .regex(/^(?!\$)[^\p{Cc}#+]*$/u, 'A topic: no + or #, no control characters, not beginning with $')
    .default('')
    .meta({ label: 'Topic', help: 'Where the broker says that this sender is gone without a word; empty: nowhere', group: 'Last will' }),
  willPayload: z
    .string()
    .refine((text) => new TextEncoder().encode(text).length <= WILL_OCTETS, `At most ${WILL_OCTETS} octets`)
    .default('')
    .meta({ label: 'Payload', area: true, group: 'Last will' }),
  willQos: z.enum(['0', '1', '2']).default('1').meta({ label: 'QoS', group: 'Last will' }),
  willRetain: z.boolean().default(false).meta({ label: 'Retained', help: 'Who comes later hears of it too', group: 'Last will' }),
  willDelayS: z
    .number()
    .int()
    .min(0)
    .max(86_400, 'At most a day')
    .default(0)
    .meta({ label: 'Said after', unit: 's', help: 'Not at all when the sender is back by then (MQTT 5)', group: 'Last will' }),
}

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
    transport: reachTerms.transport,
    path: reachTerms.path,
    headers: reachTerms.headers,
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
    ...hostTerms,
    proxy: reachTerms.proxy,
    proxyCredentialId: reachTerms.proxyCredentialId,
    ...sessionTerms,
    ...willTerms,
  })
  .superRefine((s, ctx) => {
    const wrong = (path: string, message: string) => ctx.addIssue({ code: 'custom', path: [path], message })
    if (s.tls && !s.authorityId) wrong('authorityId', 'TLS needs the authority that signed the broker')
    if (s.redirects && !s.tls) wrong('redirects', 'Only with TLS: else anybody could send the log-in elsewhere')
    if (s.willDelayS > 0 && s.protocol !== '5') wrong('willDelayS', 'MQTT 3.1.1 has no delay')
    if (s.witness && !s.witnessClientId) wrong('witnessClientId', 'Which client id?')
    if (s.witness && s.witnessClientId === s.clientId)
      wrong('witnessClientId', 'Must differ from the sender: two connections with one client id end each other')
  })
export type MqttSettings = z.infer<typeof MqttSettings>

/** What brokers are asked for beyond what every form begins with. */
export const freshBroker = z.object({ ...reachTerms, ...hostTerms, ...sessionTerms, ...willTerms }).parse({})
