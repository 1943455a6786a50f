import { z } from 'zod'
import { BridgeBy } from './fill'
import { Id } from './id'
import { RowColumn, RowPlace } from './row-place'
import { DataType } from './tag'

/** A member as it stands in the payload: its names from the top, parted by dots. */
export const MemberKey = z
  .string()
  .trim()
  .min(1, 'Which member?')
  .max(400)
  .regex(/^(?:[A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z0-9_]+)*)?$/, 'Letters, digits and _, levels parted by dots')
const Members = z.array(MemberKey).min(1, 'Which members?').max(500)
/** What no database keeps in a text. */
const NUL = [(text: string) => !text.includes('\0'), 'It holds a NUL: take it out'] as const
const Text = (words: string) =>
  z
    .string()
    .trim()
    .min(1, words)
    .max(4000)
    .refine(...NUL)
/** A span of time, s. */
const seconds = (least: number, words: string) => z.number({ error: 'A number of seconds' }).min(least, words).max(86_400, 'At most a day')

/** The most that a table may hold: it goes out with every look at the draft. */
const TABLE_CHARS = 400_000

/** A table in which something is looked up: its first column is what it is looked up by. */
export const LookupTable = z
  .object({
    columns: z.array(z.string().trim().min(1, 'A column has no name').max(100)).min(2, 'At least two columns').max(40),
    rows: z.array(z.array(z.string().max(500))).max(10_000, 'At most 10,000 rows'),
  })
  .superRefine(({ columns, rows }, ctx) => {
    const size = [columns, ...rows].reduce((n, r) => n + r.reduce((m, c) => m + c.length, 0), 0)
    if (size > TABLE_CHARS) ctx.addIssue({ code: 'custom', path: ['rows'], message: `It has ${size} characters: ${TABLE_CHARS} are possible` })
    const spoilt = rows.findIndex((r) => r.some((c) => c.includes('\0')))
    if (spoilt >= 0) ctx.addIssue({ code: 'custom', path: ['rows'], message: `Row ${spoilt + 1} holds a NUL: take it out` })
    const uneven = rows.findIndex((r) => r.length !== columns.length)
    if (uneven >= 0)
      ctx.addIssue({ code: 'custom', path: ['rows'], message: `Row ${uneven + 1} has ${rows[uneven]!.length} values for ${columns.length} columns` })
    const seen = new Map<string, number>()
    for (const [i, [key]] of rows.entries()) {
      const before = seen.get(key ?? '')
      if (before !== undefined) {
        ctx.addIssue({ code: 'custom', path: ['rows'], message: `Row ${i + 1} is for ${key}, as row ${before + 1} is` })
        return
      }
      seen.set(key ?? '', i)
    }
  })
export type LookupTable = z.infer<typeof LookupTable>

/** What numbers become over a window; `each`: every member becomes a list of all that it was. */
export const WindowBy = z.enum(['last', 'average', 'least', 'most', 'sum', 'each'])
export type WindowBy = z.infer<typeof WindowBy>

/** A member that a script gives. */
export const ScriptGives = z.object({ member: MemberKey, dataType: DataType, unit: z.string().trim().max(40).default('') })

/** One change to a message between trigger and shape. Members are meant as they are when its turn comes. */
export const Step = z.discriminatedUnion('kind', [
  z.object({
    kind: z.literal('keep'),
    condition: Text('What has to hold?').describe('An expression (CEL) over the members of the equipment: what it does not hold for goes no further'),
    unknown: z.enum(['pass', 'drop']).default('pass').describe('What happens while it has no answer, as when a member is bad'),
  }),
  z.object({
    kind: z.literal('drop'),
    condition: Text('What is dropped?').describe('An expression (CEL) over the members: what it holds for goes no further'),
    unknown: z.enum(['pass', 'drop']).default('pass'),
  }),
  z.object({ kind: z.literal('repeats') }).describe('What says the same as the message before it goes no further'),
  z.object({
    kind: z.literal('set'),
    member: MemberKey,
    expression: Text('What is it set to?').describe('An expression (CEL) over the members'),
    unit: z.string().trim().max(40).optional().describe('Absent: that of the member, if there is one'),
  }),
  z.object({ kind: z.literal('rename'), member: MemberKey, to: MemberKey }),
  z.object({ kind: z.literal('leave'), members: Members, but: z.boolean().default(false).describe('All but these are left out') }),
  z.object({
    kind: z.literal('convert'),
    member: MemberKey,
    unit: z.string().trim().max(40).optional(),
    dataType: DataType.optional(),
  }),
  z.object({
    kind: z.literal('lookup'),
    member: MemberKey.describe('What is looked up'),
    table: LookupTable,
    under: MemberKey.optional().describe('Members that it gives stand under this; absent: at the top'),
    otherwise: z.string().max(500).optional().describe('For what the table does not have; absent: no value'),
  }),
  RowPlace.extend({
    kind: z.literal('record'),
    member: MemberKey.describe('What is looked up: what tells a row from others'),
    sourceId: Id.describe('In whose rows: a query, or a JSON document'),
    columns: z.array(RowColumn).min(1, 'Which columns?').max(40, 'At most 40 columns'),
    under: MemberKey.optional().describe('Members that it gives stand under this; absent: at the top'),
  }),
  z.object({
    kind: z.literal('smooth'),
    members: Members,
    seconds: seconds(0.1, 'At least 0.1 s').describe('Time constant of the first-order filter'),
  }),
  z.object({
    kind: z.literal('bridge'),
    members: Members,
    by: BridgeBy,
    seconds: seconds(0.1, 'At least 0.1 s').optional().describe('So long at most; absent: for ever'),
  }),
  z.object({
    kind: z.literal('split'),
    member: MemberKey.describe('A list: each of its items gets a message of its own'),
    as: MemberKey.optional().describe('Member with the place of the item, from 1'),
  }),
  z.object({
    kind: z.literal('window'),
    seconds: seconds(0.1, 'At least 0.1 s').describe('One message goes for all that came in so long, when that is over'),
    by: WindowBy.describe('What numbers become; all else is as it was last. `each`: lists, with so many places as messages are asked for'),
    messages: z
      .number({ error: 'A number of messages' })
      .int('A whole number')
      .min(1, 'At least 1')
      .max(100_000, 'At most 100,000')
      .optional()
      .describe('It is over too when so many came in'),
    count: MemberKey.optional().describe('Member with the number of messages that came in'),
    key: MemberKey.optional().describe('Messages with other values of this member are gathered apart'),
  }),
  z.object({
    kind: z.literal('script'),
    code: z
      .string()
      .min(1, 'What does it do?')
      .max(20_000)
      .refine(...NUL)
      .describe('JavaScript: the body of a function of message, equipment and state'),
    gives: z.array(ScriptGives).max(100).default([]).describe('Members that it adds, or gives another type or unit'),
  }),
])
export type Step = z.infer<typeof Step>
export type StepKind = Step['kind']
