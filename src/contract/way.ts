import { z } from 'zod'
import { Id } from './id'

/** A hop on the way from a device to the far end. */
export const WayHopName = z.enum([
  'source',
  'tag',
  'member',
  'publication',
  'trigger',
  'step',
  'message',
  'outbox',
  'connection',
  'destination',
  'witness',
])
export type WayHopName = z.infer<typeof WayHopName>

/** What gets past a hop: all, a part, nothing since nothing is to go now, nothing though it should; or nobody can say. */
export const HopState = z.enum(['fine', 'part', 'waits', 'stops', 'unknown'])
export type HopState = z.infer<typeof HopState>

export const WayHop = z.object({
  hop: WayHopName,
  name: z.string().describe('What stands there; empty: nothing with a name'),
  state: HopState,
  words: z.string().describe('How it is, and why'),
  hint: z.string().describe('How to mend it; empty: nothing is to be mended'),
  since: z.number().nullable().describe('Epoch ms; null: not known'),
  id: z.string().nullable().describe('Of what stands there'),
})
export type WayHop = z.infer<typeof WayHop>

/** The way of one publication, hop by hop from the device on. */
export const Way = z.object({
  publicationId: z.string().nullable(),
  publication: z.string(),
  destination: z.string(),
  hops: z.array(WayHop),
  at: z.number().int().nullable().describe('Place of the hop that answers the question; null: nothing is in the way'),
})
export type Way = z.infer<typeof Way>

export const WayOf = z.enum(['tag', 'publication', 'destination'])
export type WayOf = z.infer<typeof WayOf>

export const WayQuery = z.object({ of: WayOf, id: Id })
export type WayQuery = z.infer<typeof WayQuery>

export const FoundWay = z.object({
  at: z.number().describe('When it was looked, epoch ms'),
  of: WayOf,
  id: z.string(),
  subject: z.string(),
  ways: z.array(Way).describe('The worst first'),
  more: z.number().int().describe('Ways that are not listed'),
})
export type FoundWay = z.infer<typeof FoundWay>
