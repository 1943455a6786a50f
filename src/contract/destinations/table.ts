import { z } from 'zod'
import { Id } from '../id'
import { databaseFields } from '../sources/database'
import { outboxTerms, paceTerms, windowTerm, witnessTerms } from './terms'

/** A name in PostgreSQL has so many octets at most (4.1.1). */
export const NAME_OCTETS = 63

const column = z
  .string()
  .trim()
  .refine((text) => new TextEncoder().encode(text).length <= NAME_OCTETS, `At most ${NAME_OCTETS} octets`)

/** A PostgreSQL database whose tables take messages as rows. */
export const TableSettings = z
  .object({
    ...databaseFields,
    credentialId: Id.nullable().meta({ label: 'Log-in', help: 'User and password; it must be allowed to insert', group: 'Identity' }),
    idColumn: column.default('embrik_id').meta({
      label: 'Column of the id',
      help: 'Holds the id of the message; unique, a message that goes again is kept once. Empty: none',
      group: 'Rows',
    }),
    make: z.boolean().default(false).meta({
      label: 'Make what is missing',
      help: 'Tables and columns, as the first message needs them; the log-in must be allowed to',
      group: 'Rows',
    }),
    batchMost: z.number().int().min(1).max(5000).default(500).meta({ label: 'Messages a statement', group: 'Pace' }),
    batchKb: z.number().int().min(1).max(10_000).default(1000).meta({ label: 'Statement up to', unit: 'kB', group: 'Pace' }),
    lingerMs: z
      .number()
      .int()
      .min(0)
      .max(60_000)
      .default(20)
      .meta({ label: 'Gathered for', unit: 'ms', help: 'A statement goes when it is full, or after this', group: 'Pace' }),
    ...paceTerms,
    ...windowTerm(2000, 'Messages handed over ahead of their answer'),
    ...witnessTerms,
    rowColumn: column.default('embrik_row').meta({
      label: 'Column of the row number',
      help: 'A number that the table itself counts up, by which new rows are found',
      group: 'Witness',
    }),
    readEveryMs: z.number().int().min(200, 'At least 200 ms').max(600_000).default(1000).meta({ label: 'Asked every', unit: 'ms', group: 'Witness' }),
    witnessCredentialId: Id.nullable().meta({ label: 'Witness log-in', help: 'One that may only read', group: 'Witness' }),
    ...outboxTerms,
  })
  .superRefine((s, ctx) => {
    const wrong = (path: string, message: string) => ctx.addIssue({ code: 'custom', path: [path], message })
    if (!s.credentialId) wrong('credentialId', 'Which log-in?')
    if (s.tls && !s.authorityId) wrong('authorityId', 'TLS needs the authority that signed the server')
    if (s.witness && s.rowColumn === '') wrong('rowColumn', 'Without it new rows cannot be found')
    if (s.rowColumn !== '' && s.rowColumn === s.idColumn) wrong('rowColumn', 'Another column than that of the id')
  })
export type TableSettings = z.infer<typeof TableSettings>
