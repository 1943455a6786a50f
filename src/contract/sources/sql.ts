import { z } from 'zod'
import { Id } from '../id'
import { hostField, paceFields, portField, timeoutField } from './pace'

/** A read-only query on a PostgreSQL database, asked at a rate. */
export const SqlSettings = z
  .object({
    host: hostField.meta({ label: 'Host', group: 'Reach' }),
    port: portField.meta({ label: 'Port', help: '5432 unless they say otherwise', group: 'Reach' }),
    database: z.string().trim().min(1, 'Which database?').max(63).meta({ label: 'Database', group: 'Reach' }),
    tls: z.boolean().meta({ label: 'TLS', group: 'Security' }),
    authorityId: Id.nullable().meta({ label: 'Trusted authority', help: 'Which CA signed the server', group: 'Security' }),
    user: z.string().trim().min(1, 'Which user?').max(63).meta({ label: 'User', group: 'Security' }),
    query: z
      .string()
      .trim()
      .min(1, 'Which query?')
      .max(20_000)
      .meta({ label: 'Query', help: 'One select; runs in a read-only transaction', group: 'Query', area: true }),
    keyColumn: z.string().trim().max(63).meta({ label: 'Key column', help: 'Many rows: names the row. Empty: the one row there is', group: 'Query' }),
    timeoutMs: timeoutField.meta({ label: 'Query within', unit: 'ms', help: 'The server stops it then', group: 'Pace' }),
    ...paceFields,
  })
  .superRefine((s, ctx) => {
    if (s.tls && !s.authorityId) ctx.addIssue({ code: 'custom', path: ['authorityId'], message: 'TLS needs the authority that signed the server' })
  })
export type SqlSettings = z.infer<typeof SqlSettings>
