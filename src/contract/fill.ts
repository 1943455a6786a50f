import { z } from 'zod'
import { DataType } from './tag'

export const FillScalar = z.union([z.number(), z.string(), z.boolean()])
export type FillScalar = z.infer<typeof FillScalar>
const conversion = { factor: z.number(), offset: z.number() }

/** How a gap is bridged: with the last good value, or along the line through the last two. */
export const BridgeBy = z.enum(['last', 'line'])
export type BridgeBy = z.infer<typeof BridgeBy>

/** What is made from another fill, which gives values of this type. */
interface Made {
  input: Fill
  inputType: DataType
}

/** Where a value comes from, with nothing left to look up: `value * factor + offset` of what is read or computed. */
export type Fill =
  | { kind: 'tag'; handle: number; width: number; factor: number; offset: number }
  | { kind: 'row'; place: number }
  | { kind: 'constant'; value: FillScalar }
  | { kind: 'expression'; text: string; inputs: FillInput[]; factor: number; offset: number }
  | (Made & { kind: 'as'; factor: number; offset: number })
  | (Made & { kind: 'lookup'; table: number; column: number; otherwise: FillScalar | null })
  | (Made & { kind: 'record'; lookup: number; column: number })
  | (Made & { kind: 'smooth'; seconds: number })
  | (Made & { kind: 'bridge'; by: BridgeBy; seconds: number | null })
export interface FillInput {
  name: string
  dataType: DataType
  fill: Fill
}
export const Fill: z.ZodType<Fill> = z.lazy(() => {
  const made = { input: Fill, inputType: DataType }
  return z.discriminatedUnion('kind', [
    z.object({
      kind: z.literal('tag'),
      handle: z.number().int(),
      width: z.number().describe('How far it must move to count as changed, in its own unit'),
      ...conversion,
    }),
    z.object({ kind: z.literal('row'), place: z.number().int() }).describe('What came out of the step before that takes its time'),
    z.object({ kind: z.literal('constant'), value: FillScalar }),
    z.object({
      kind: z.literal('expression'),
      text: z.string(),
      inputs: z.array(z.object({ name: z.string(), dataType: DataType, fill: Fill })),
      ...conversion,
    }),
    z.object({ kind: z.literal('as'), ...made, ...conversion }).describe('In another unit or of another type'),
    z.object({
      kind: z.literal('lookup'),
      ...made,
      table: z.number().int().describe('Place among the tables of the plan'),
      column: z.number().int(),
      otherwise: FillScalar.nullable().describe('For what the table does not have; null: no value'),
    }),
    z.object({
      kind: z.literal('record'),
      ...made,
      lookup: z.number().int().describe('Place among the sources in which the plan looks something up'),
      column: z.number().int(),
    }),
    z.object({ kind: z.literal('smooth'), ...made, seconds: z.number().describe('Time constant, s') }),
    z.object({ kind: z.literal('bridge'), ...made, by: BridgeBy, seconds: z.number().nullable().describe('So long at most; null: for ever') }),
  ])
})
