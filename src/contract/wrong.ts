import { z } from 'zod'
import { Hop } from './failure-form'

/** Where tags in one trouble are found in the table: all of a source, and of a folder where they lie in one. */
export const TagPlace = z.object({
  sourceId: z.string(),
  folder: z.string().nullable().describe('null: they lie in several'),
  kind: z.enum(['bad', 'uncertain', 'stale', 'range']),
})
export type TagPlace = z.infer<typeof TagPlace>

/** Something that is wrong at this moment, or soon will be. */
export const Wrong = z.object({
  severity: z.enum(['bad', 'uncertain']),
  where: Hop,
  subjectId: z.string().nullable(),
  subject: z.string().describe('What it is about, by name'),
  since: z.number().nullable().describe('Epoch ms; of what is to come: when it will be; null: not known'),
  cause: z.string(),
  hint: z.string(),
  tags: TagPlace.optional(),
})
export type Wrong = z.infer<typeof Wrong>

/** Something that went wrong in the last hour, and how often. */
export const WentWrong = z.object({
  severity: z.enum(['warning', 'trouble']),
  where: z.string(),
  subjectId: z.string().nullable(),
  subject: z.string(),
  code: z.string(),
  times: z.number().int(),
  first: z.number(),
  last: z.number(),
  cause: z.string().describe('As it was told last'),
  hint: z.string(),
})
export type WentWrong = z.infer<typeof WentWrong>

/** What became of the messages of a while, by destination. */
export const Fate = z.object({
  destinationId: z.string(),
  destination: z.string(),
  produced: z.number(),
  arrived: z.number().describe('Confirmed, late, disordered or doubled: it is there'),
  altered: z.number(),
  missing: z.number(),
  dropped: z.number(),
  rejected: z.number(),
  unknown: z.number(),
})
export type Fate = z.infer<typeof Fate>

export const WhatIsWrong = z.object({
  at: z.number(),
  since: z.number().describe('Messages made since then are spoken of, epoch ms'),
  fates: z.array(Fate),
  now: z.array(Wrong),
  soon: z.array(Wrong),
  hour: z.array(WentWrong),
})
export type WhatIsWrong = z.infer<typeof WhatIsWrong>
