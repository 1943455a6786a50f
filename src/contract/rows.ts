import { z } from 'zod'
import { Id } from './id'
import { MemberKey } from './step'
import { DataType } from './tag'

/** What no database keeps in a text. */
const noNul = [(text: string) => !text.includes('\0'), 'It holds a NUL: take it out'] as const

const Place = z
  .string()
  .trim()
  .max(400)
  .regex(/^(?:\/(?:[^~]|~[01])*)?$/, 'Like /orders/open, as RFC 6901 has it; empty: at the top')
  .refine(...noNul)

/** A column of rows that goes out. */
export const RowColumn = z.object({
  name: z
    .string()
    .min(1, 'Which column?')
    .max(200)
    .refine(...noNul),
  dataType: DataType,
  unit: z
    .string()
    .trim()
    .max(40)
    .refine(...noNul)
    .default(''),
})
export type RowColumn = z.infer<typeof RowColumn>

/** Where in the answer of a source its rows stand, and what tells one from another. */
export const RowPlace = z.object({
  at: Place.default('').describe('Where in its answer the rows stand (RFC 6901); empty: at the top'),
  key: z
    .string()
    .max(200)
    .refine(...noNul)
    .default('')
    .describe('Where they are a list: the column that tells one from another; empty: its place does'),
})
export type RowPlace = z.infer<typeof RowPlace>

/** Rows of a source of documents (a query, a JSON document), each a message. */
export const RowPick = RowPlace.extend({
  sourceId: Id,
  columns: z.array(RowColumn).min(1, 'Which columns?').max(200, 'At most 200 columns'),
  nameAs: MemberKey.optional().describe('Member with what tells the row from others'),
  changeAs: MemberKey.optional().describe(
    'Member that says what became of the row since last time: added, changed, removed; present where somebody asked for all',
  ),
  removed: z.boolean().optional().describe('A row that is gone is told too, with what it said last'),
}).superRefine(({ columns, removed, changeAs }, ctx) => {
  if (removed && changeAs === undefined) ctx.addIssue({ code: 'custom', path: ['changeAs'], message: 'Which member says that a row was removed?' })
  const seen = new Set<string>()
  for (const [i, { name }] of columns.entries()) {
    if (seen.has(name)) ctx.addIssue({ code: 'custom', path: ['columns', i, 'name'], message: `${name} is there twice` })
    seen.add(name)
  }
})
export type RowPick = z.infer<typeof RowPick>

/** Rows as a plan freezes them: where each value of a row is put to be read by its members. */
export const PlanRows = RowPlace.extend({
  sourceId: Id,
  source: z.string().describe('Its name'),
  columns: z.array(z.object({ name: z.string(), dataType: DataType, handle: z.number().int() })),
  nameHandle: z.number().int().nullable(),
  changeHandle: z.number().int().nullable(),
  removed: z.boolean(),
})
export type PlanRows = z.infer<typeof PlanRows>

/** What a source of documents has as rows, as it was read last. */
export const RowsLook = z.object({
  rows: z.number().int(),
  columns: z.array(RowColumn.extend({ value: z.string().describe('Of the first row that has one') })),
  problem: z.string().describe('Why there are none; empty: there are'),
})
export type RowsLook = z.infer<typeof RowsLook>
