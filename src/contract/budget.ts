import { z } from 'zod'
import { PublicationDraft } from './publication'

export const BudgetQuery = z.object({
  draft: PublicationDraft,
  from: z.number().describe('Epoch ms'),
  to: z.number().describe('Epoch ms'),
})
export type BudgetQuery = z.infer<typeof BudgetQuery>

const Wire = z.object({
  out: z.number().describe('Octets to the destination, with all that its protocol and TLS put around messages; TCP and IP not'),
  back: z.number().describe('Octets of its answers'),
})

export const BudgetSum = z.object({
  messages: z.number().int(),
  octets: z.number().describe('Of payloads'),
  wire: Wire.nullable().describe('Null: there is no model of what its protocol puts around them'),
})

export type BudgetSum = z.infer<typeof BudgetSum>

/** How far the curve that a receiver can rebuild of one member is from what it was, in its unit. */
const MemberDeviation = z.object({
  name: z.string().describe('Equipment and member'),
  unit: z.string(),
  span: z.number().describe('From the least to the largest value that it had'),
  most: z.number(),
  rms: z.number().describe('Root of the mean square over the time'),
})

/** What a draft would have sent of what was recorded of its tags, and what of it would have been lost. */
export const Budget = z.object({
  from: z.number().describe('Epoch ms; later than asked where less is recorded'),
  to: z.number().describe('Earlier than asked where there was too much of it'),
  cut: z.boolean(),
  would: BudgetSum,
  lost: z
    .object({ most: z.number(), rms: z.number() })
    .nullable()
    .describe('Over all numbers, as shares of what each of them moved; null: none moved, or what is sent cannot be held against it'),
  members: z.array(MemberDeviation).describe('Those that lose most, the first ones'),
  compared: z.number().int().describe('Numbers that moved, and could be compared'),
  problems: z.array(z.string()),
  damaged: z.number().int().describe('Stretches of the recording that could not be read: what was in them is missing'),
})
export type Budget = z.infer<typeof Budget>
