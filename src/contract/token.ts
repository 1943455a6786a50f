import { z } from 'zod'

/** How a key that is shared is written: as text, or as octets in base64 (RFC 4648 4 or 5) or hex. */
export const KeyText = z.enum(['text', 'base64', 'hex'])
export type KeyText = z.infer<typeof KeyText>

/** By which JWTs are signed here (RFC 7518 3.1). */
export const TokenAlgorithm = z.enum(['HS256', 'RS256', 'ES256'])
export type TokenAlgorithm = z.infer<typeof TokenAlgorithm>

/** A year. */
const MOST_S = 31_536_000

const terms = {
  lifetimeS: z.number('How many seconds?').int('Whole seconds').min(30, 'At least 30 s').max(MOST_S, 'At most a year').default(3600),
  marginS: z.number('How many seconds?').int('Whole seconds').min(5, 'At least 5 s').max(MOST_S, 'At most a year').default(300),
}
const Template = z.string().max(4000, 'At most 4000 characters')

/** How tokens are made from a key that is kept here: nothing secret stands in it. */
export const TokenRecipe = z
  .discriminatedUnion('form', [
    z.object({
      form: z.literal('jwt'),
      algorithm: TokenAlgorithm.default('ES256'),
      keyAs: KeyText.default('text').describe('How a shared key is written; keys of RS256 and ES256 are PEM'),
      keyId: Template.default('').describe('By which name the receiver knows the key (RFC 7515 4.1.4); empty: it is not said'),
      claims: Template.describe('One a line, with placeholders: aud: {host}'),
      ...terms,
    }),
    z.object({
      form: z.literal('hmac'),
      hash: z.enum(['SHA-256', 'SHA-384', 'SHA-512']).default('SHA-256'),
      keyAs: KeyText.default('base64'),
      signed: Template.min(1, 'What is signed?').describe('The text whose HMAC (RFC 2104) is the signature, with placeholders'),
      encoding: z.enum(['base64', 'base64url', 'hex']).default('base64'),
      token: Template.min(1, 'What does the token look like?').describe('With {signature} and other placeholders'),
      ...terms,
    }),
  ])
  .refine((r) => r.marginS < r.lifetimeS, { path: ['marginS'], message: 'Less than it is good for' })
export type TokenRecipe = z.infer<typeof TokenRecipe>
