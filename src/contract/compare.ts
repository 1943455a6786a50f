import { z } from 'zod'
import { Id } from './id'

/** So many pairs are held beside each other in one answer, and so many messages are read for it. */
export const COMPARED_MOST = 1000
export const COMPARED_MESSAGES = 50_000
/** The longest time, ms. */
export const COMPARED_MS = 86_400_000

export const CompareQuery = z
  .object({
    publicationIds: z.array(Id).max(COMPARED_MOST).describe('Whose messages; empty: of all that are live'),
    tags: z
      .array(z.object({ held: Id, came: Id }))
      .max(COMPARED_MOST)
      .default([])
      .describe('Tags that are to be the same as others, by another way'),
    from: z.number().describe('Epoch ms'),
    to: z.number().describe('Epoch ms'),
    open: z.string().max(500).nullable().default(null).describe('Key of the pair of which curves are wanted; then only that one is compared'),
  })
  .refine((q) => q.to > q.from && q.to - q.from <= COMPARED_MS, { message: 'From a moment to a later one, at most a day', path: ['to'] })
export type CompareQuery = z.infer<typeof CompareQuery>

const number = z.number().nullable()

/** What is recognised between a value and what arrived of it. */
export const CompareFinding = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('factor'), factor: z.number(), unit: z.string().describe('As if it were in this unit; empty: in none') }),
  z.object({ kind: z.literal('offset'), offset: z.number() }),
  z.object({ kind: z.literal('line'), factor: z.number(), offset: z.number() }),
  z.object({ kind: z.literal('unit'), is: z.string(), said: z.string() }),
  z.object({ kind: z.literal('order'), type: z.string(), order: z.string().describe('In which the octets of registers were taken; plain is ABCD') }),
  z.object({ kind: z.literal('inverted') }),
  z.object({ kind: z.literal('shift'), ms: z.number() }),
  z.object({ kind: z.literal('exchanged'), with: z.string().describe('Key of the other pair') }),
  z.object({ kind: z.literal('other'), carries: z.string().describe('Key of the pair whose tag it carries') }),
  z.object({ kind: z.literal('deadband'), size: z.number(), hides: z.number().describe('Share of all movement') }),
  z.object({ kind: z.literal('seldom'), everyMs: z.number(), hides: z.number() }),
  z.object({ kind: z.literal('still'), since: z.number() }),
  z.object({ kind: z.literal('nothing') }),
])
export type CompareFinding = z.infer<typeof CompareFinding>

const Side = z.object({ value: z.union([z.number(), z.string(), z.boolean()]).nullable(), at: number.describe('Epoch ms') })
const Point = z.tuple([z.number(), number]).describe('Epoch ms, value; null: there was no good one')

/** A tag, and where it arrives. */
export const ComparePair = z.object({
  key: z.string(),
  tagId: Id,
  tag: z.string(),
  unit: z.string(),
  writable: z.boolean().describe('Values may be written to its device'),
  came: z.discriminatedUnion('kind', [
    z.object({
      kind: z.literal('member'),
      publicationId: Id,
      publication: z.string(),
      equipment: z.string(),
      member: z.string(),
      place: z.string().describe('Topic, path or table'),
      destinationId: Id,
      unit: z.string(),
      computed: z.string().describe('The expression that makes it; empty: it is sent as it is'),
    }),
    z.object({ kind: z.literal('tag'), tagId: Id, tag: z.string(), unit: z.string() }),
  ]),
  basis: z.enum(['seen', 'acknowledged', 'read']).describe('Seen by the witness; acknowledged only, where there is none; read back by a source'),
  stated: z.object({ factor: z.number(), offset: z.number() }).describe('How it is converted on the way, as far as that is stated'),
  state: z
    .enum(['agrees', 'differs', 'nothing', 'open', 'unsent', 'little'])
    .describe(
      'Nothing: what was sent did not arrive; open: nobody can say whether it did; unsent: nothing was sent; little: too little moved to say anything',
    ),
  finding: CompareFinding.nullable(),
  held: z.number().int().describe('Values that the tag had one after the other'),
  carried: z.number().int().describe('How many of them arrived'),
  arrived: z.number().int(),
  off: z.number().int().describe('Arrived, and the tag had no such value then'),
  lost: z.number().int().describe('Sent, and not arrived'),
  altered: z.number().int().describe('Arrived with other octets: those are not compared'),
  open: z.number().int().describe('Sent, and nobody can say yet'),
  lag: z.object({ median: z.number(), most: z.number() }).nullable().describe('From the device to where it arrives, ms'),
  span: z.number(),
  most: number.describe('Largest distance of what a receiver can rebuild; null: there are no numbers'),
  rms: number,
  decimals: z.number().describe('What decimals explain of it, at the most'),
  between: z.number().describe('What is not told between two messages: deadband and pace'),
  width: z.number().describe('The deadband that is stated, in the unit of what arrives; 0: none'),
  unexplained: z.number(),
  now: z.object({ held: Side, came: Side }),
  curves: z.object({ held: z.array(Point), came: z.array(Point) }).optional(),
})
export type ComparePair = z.infer<typeof ComparePair>

/** Tags beside where they arrive, the worst first. */
export const Compared = z.object({
  from: z.number().describe('Epoch ms; later than asked where less is recorded'),
  to: z.number(),
  pairs: z.array(ComparePair),
  left: z.number().int().describe('Pairs beyond the most that are compared at once'),
  notes: z.array(z.string()).describe('What limits what can be said'),
})
export type Compared = z.infer<typeof Compared>
