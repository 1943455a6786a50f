import { z } from 'zod'
import { Id } from './id'
import { RowColumn, RowPlace } from './row-place'
import { MemberKey } from './step'
import { DataType } from './tag'

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
