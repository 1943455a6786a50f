import { z } from 'zod'
import { databaseFields } from './database'
import { paceFields, timeoutField } from './pace'

/** A read-only query on a PostgreSQL database, asked at a rate. */
export const SqlSettings = z
  .object({
    ...databaseFields,
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
