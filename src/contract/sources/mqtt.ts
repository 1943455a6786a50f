import { z } from 'zod'
import { reachTerms } from '../broker-reach'
import { Id } from '../id'
import { hostField, portField, retryField } from './pace'

/** Settings of a broker on whose topics devices speak by themselves. */
export const MqttSourceSettings = z
  .object({
    host: hostField.meta({ label: 'Host', group: 'Reach' }),
    port: portField.meta({ label: 'Port', help: '8883 for TLS, 1883 plain, unless they say otherwise', group: 'Reach' }),
    protocol: z.enum(['5', '3.1.1']).meta({ label: 'MQTT', group: 'Reach' }),
    transport: reachTerms.transport,
    path: reachTerms.path,
    headers: reachTerms.headers,
    tls: z.boolean().meta({ label: 'TLS', group: 'Security' }),
    authorityId: Id.nullable().meta({ label: 'Trusted authority', help: 'Which CA signed the broker', group: 'Security' }),
    clientId: z
      .string()
      .trim()
      .min(1, 'Which client id?')
      .max(200)
      .regex(/^[^\p{Cc}]+$/u, 'No control characters, please')
      .meta({ label: 'Client id', help: 'One connection a client id', group: 'Identity' }),
    credentialId: Id.nullable().meta({ label: 'Certificate or log-in', group: 'Identity' }),
    filters: z
      .string()
      .trim()
      .min(1, 'Which topics?')
      .max(4000)
      .meta({ label: 'Listen on', help: 'Topic filters, separated by spaces or commas: probes/# cells/+/state', group: 'Topics' }),
    timeField: z
      .string()
      .trim()
      .max(200)
      .meta({ label: 'Time is in', help: 'JSON: a name beside the value, or /path from the top; empty: when it came', group: 'Topics' }),
    qualityField: z
      .string()
      .trim()
      .max(200)
      .meta({ label: 'Quality is in', help: 'JSON, likewise: good, bad, true, false, or a status code', group: 'Topics' }),
    staleS: z
      .number({ error: 'A number of seconds' })
      .int()
      .min(0)
      .max(604_800)
      .meta({ label: 'Stale after', unit: 's', help: 'Without a message; 0 is never', group: 'Pace' }),
    keepAliveS: z
      .number({ error: 'A number of seconds' })
      .int()
      .min(5, 'At least 5 s')
      .max(3600)
      .meta({ label: 'Keep-alive', unit: 's', group: 'Pace' }),
    ...retryField,
    proxy: reachTerms.proxy,
    proxyCredentialId: reachTerms.proxyCredentialId,
  })
  .superRefine((s, ctx) => {
    if (s.tls && !s.authorityId) ctx.addIssue({ code: 'custom', path: ['authorityId'], message: 'TLS needs the authority that signed the broker' })
    const wrong = filtersOf(s.filters).find((f) => !goodFilter(f))
    if (wrong !== undefined)
      ctx.addIssue({
        code: 'custom',
        path: ['filters'],
        message: `${wrong} is no topic filter: + and # stand alone between slashes, # only at the end`,
      })
  })
export type MqttSourceSettings = z.infer<typeof MqttSourceSettings>

/** The filters as typed, apart. */
export const filtersOf = (text: string): string[] => text.split(/[\s,]+/).filter(Boolean)

/** MQTT 5 4.7.1: wildcards fill a whole level, # only the last. */
const goodFilter = (f: string) => f.split('/').every((l, i, all) => l === '+' || (l === '#' && i === all.length - 1) || !/[+#]/.test(l))

/** What was heard on one topic while listening. */
export const HeardTopic = z.object({
  topic: z.string(),
  count: z.number().int(),
  rate: z.number().describe('Messages a second'),
  bytes: z.number().int().describe('Of the last payload'),
  sample: z.string().describe('The last payload as text, or in hexadecimal digits when it is none; cut at 4000 characters'),
  format: z.enum(['number', 'boolean', 'text', 'json', 'sparkplug', 'bytes', 'empty']),
  retained: z.boolean(),
  leaves: z.array(
    z.object({
      address: z.string().describe('What a tag made of it would have'),
      name: z.string(),
      value: z.string(),
      dataType: z.enum(['boolean', 'integer', 'number', 'text', 'time']),
      unit: z.string().optional(),
    }),
  ),
})
export type HeardTopic = z.infer<typeof HeardTopic>

export const ListenQuery = z.object({
  filters: z.string().trim().max(4000).default('').describe('Instead of those of the source'),
  seconds: z.number().min(1).max(600).default(20),
})

/** Lines of the answer while listening: what changed since the last one. */
export const Heard = z.object({ elapsedS: z.number(), messages: z.number().int(), topics: z.array(HeardTopic), over: z.boolean(), more: z.boolean() })
export type Heard = z.infer<typeof Heard>
