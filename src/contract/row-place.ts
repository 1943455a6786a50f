import { z } from 'zod'
import { Id } from './id'
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

/** What a source of documents has as rows, as it was read last. */
export const RowsLook = z.object({
  rows: z.number().int(),
  columns: z.array(RowColumn.extend({ value: z.string().describe('Of the first row that has one') })),
  problem: z.string().describe('Why there are none; empty: there are'),
})
export type RowsLook = z.infer<typeof RowsLook>

/** A source in whose rows something is looked up, as a plan freezes it. */
export const PlanLookup = RowPlace.extend({
  sourceId: Id,
  source: z.string().describe('Its name'),
  columns: z.array(z.object({ name: z.string(), dataType: DataType })),
})
export type PlanLookup = z.infer<typeof PlanLookup>
