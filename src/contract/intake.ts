import { z } from 'zod'
import { CertificateFacts, Places, TokenUser } from './credential'
import { Id, Name } from './id'
import { TokenRecipe } from './token'

/** What a word among what was handed over stands for. */
export const WordRole = z.enum([
  'host',
  'port',
  'scheme',
  'path',
  'identity',
  'user',
  'password',
  'token',
  'shared-key',
  'pass-phrase',
  'events',
  'events-topic',
  'events-user',
  'events-password',
  'other',
])
export type WordRole = z.infer<typeof WordRole>

/** Files and text as somebody handed them over, with pass phrases for what is locked. Nothing of it is kept by looking at it. */
export const HandedOver = z.object({
  files: z
    .array(z.object({ name: z.string().max(300), content: z.base64('Base64').max(8_000_000, 'At most 6 MB a file') }))
    .max(50, 'At most 50 files')
    .default([]),
  text: z.string().max(1_000_000, 'At most a million characters').default(''),
  phrases: z.array(z.string().max(1000)).max(20).default([]).describe('Pass phrases; each is tried on all that is locked'),
  maker: z.object({ user: TokenUser, recipe: TokenRecipe }).optional().describe('How tokens are made from a shared key, where whoever asks knows it'),
  roles: z.record(z.string().max(40), WordRole).default({}).describe('By the id of a word what it stands for, where that was taken wrongly'),
})
export type HandedOver = z.infer<typeof HandedOver>

export const FoundPiece = z.object({
  id: z.string(),
  from: z.string().describe('The file, and the place in it'),
  what: z.string().describe('What it was taken for, in words'),
  name: z.string(),
  detail: z.string().describe('What is worth knowing of it; never what is secret'),
  role: WordRole.nullable().describe('Of a word'),
  state: z.enum(['taken', 'locked', 'broken', 'left']),
})
export type FoundPiece = z.infer<typeof FoundPiece>

export const IntakeFinding = z.object({
  severity: z.enum(['stop', 'warning', 'note']),
  code: z.string(),
  message: z.string(),
  hint: z.string(),
})
export type IntakeFinding = z.infer<typeof IntakeFinding>

/** Something that can be kept as a credential. */
export const Offer = z.object({
  id: z.string(),
  kind: z.enum(['certificate', 'authority', 'password', 'token']),
  name: z.string().describe('Proposed'),
  facts: CertificateFacts.nullable(),
  user: z.string().nullable(),
  endsAt: z.string().nullable().describe('When its certificate ends, or the token that is its password'),
  there: Id.nullable().describe('The credential that is just this one; then there is nothing to keep'),
})
export type Offer = z.infer<typeof Offer>

export const TakenIn = z.object({
  pieces: z.array(FoundPiece),
  findings: z.array(IntakeFinding),
  offers: z.array(Offer),
  address: z.object({
    host: z.string().nullable(),
    port: z.number().int().nullable(),
    scheme: z.string().nullable(),
    path: z.string().nullable(),
    identity: z.string().nullable(),
    events: z.string().nullable().describe('Where what was taken there can be read back'),
    eventsTopic: z.string().nullable(),
  }),
  locked: z.boolean().describe('Something asks for a pass phrase'),
})
export type TakenIn = z.infer<typeof TakenIn>

export const KeepHanded = HandedOver.extend({
  keep: z
    .array(z.object({ id: z.string().max(100), name: Name }))
    .min(1, 'Choose what is to be kept')
    .max(20),
  places: Places.default([]).describe('Where a log-in among them may be sent by engineers'),
})
export type KeepHanded = z.infer<typeof KeepHanded>
