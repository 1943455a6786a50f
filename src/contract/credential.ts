import { z } from 'zod'
import { Id, Name } from './id'
import { placeOf } from './place'
import { TokenRecipe } from './token'

const Pem = z.string().max(200_000)

/** Where a log-in may be sent: brokers, as mqtts://host:port or mqtt://host:port. */
export const Places = z
  .array(
    z
      .string()
      .trim()
      .refine((text) => placeOf(text) !== null, 'Like mqtts://broker.example:8883')
      .transform((text) => placeOf(text) ?? text),
  )
  .max(100, 'At most 100')

export const LoginUser = z
  .string()
  .trim()
  .min(1, 'Which user?')
  .max(200)
  .refine((s) => !/\p{Cc}/u.test(s), 'No control characters, please')
/** As whom one logs in with a token that is made: a template, and empty where the token says it all. */
export const TokenUser = z
  .string()
  .trim()
  .max(1000, 'At most 1000 characters')
  .refine((s) => !/\p{Cc}/u.test(s), 'No control characters, please')
export const TokenKey = z.string().min(1, 'Which key?').max(20_000)
export const LoginPassword = z.string().min(1, 'Which password?').max(1000)

/** What is typed or pasted; private parts are kept encrypted and never returned. */
export const CredentialDraft = z.discriminatedUnion('kind', [
  z.object({
    kind: z.literal('certificate'),
    name: Name,
    certificate: Pem.min(1, 'Paste the certificate, with its chain if there is one'),
    key: Pem.min(1, 'Paste the private key'),
  }),
  z.object({ kind: z.literal('authority'), name: Name, certificate: Pem.min(1, 'Paste the certificate') }),
  z.object({
    kind: z.literal('password'),
    name: Name,
    user: LoginUser,
    password: LoginPassword,
    places: Places.default([]),
  }),
  z.object({
    kind: z.literal('token'),
    name: Name,
    user: TokenUser.default(''),
    recipe: TokenRecipe,
    key: TokenKey,
    places: Places.default([]),
  }),
])
export type CredentialDraft = z.infer<typeof CredentialDraft>

export const CredentialPlaces = z.object({ places: Places })

/** When a certificate is renewed by itself. */
export const CredentialRenewal = z.object({
  days: z.number('How many days?').int('Whole days').min(1, 'At least 1 day').max(365, 'At most a year').nullable(),
})

export const CertificateFacts = z.object({
  subject: z.string(),
  issuer: z.string(),
  serial: z.string(),
  notBefore: z.string(),
  notAfter: z.string(),
  sha1: z.string().describe('Thumbprint, lower-case hex: OPC 10000-6 6.2.3'),
  sha256: z.string(),
  names: z.array(z.string()).describe('Subject alternative names'),
  authority: z.boolean(),
  key: z.string(),
  chain: z.number().int().describe('How many certificates the PEM holds'),
  lists: z
    .array(z.object({ issuer: z.string(), until: z.string().nullable() }))
    .optional()
    .describe('Revocation lists in the PEM, and until when each is good'),
})
export type CertificateFacts = z.infer<typeof CertificateFacts>

/** What uses a credential. */
export const CredentialUse = z.object({ kind: z.enum(['destination', 'source']), id: Id, name: Name })
export type CredentialUse = z.infer<typeof CredentialUse>

export const Credential = z.object({
  id: Id,
  name: Name,
  kind: z.enum(['certificate', 'authority', 'password', 'token', 'application', 'request']),
  certificate: z.string().nullable().describe('PEM; public. Of a signing request the request'),
  facts: CertificateFacts.nullable(),
  user: z.string().nullable().describe('Of a log-in; of a signing request whom it is for'),
  recipe: TokenRecipe.nullable().describe('How tokens are made from the key that is kept'),
  issues: z.boolean().describe('An authority whose key is kept here: it can sign'),
  ownSigned: z.boolean().describe('A certificate that an authority of ours signed, and has not taken back'),
  renewDays: z.number().int().nullable().describe('So many days before its end it is renewed; null: not by itself'),
  usedBy: z.array(CredentialUse),
  endsAt: z.string().nullable().describe('When its certificate ends, or the token that is its password; null: nobody says'),
  places: z.array(z.string()).describe('Where a log-in may be sent by engineers; beyond these only by administrators'),
  before: z
    .object({ replacedAt: z.string(), facts: CertificateFacts.nullable(), user: z.string().nullable() })
    .nullable()
    .describe('What it held before it was replaced; kept until somebody lets go of it'),
})
export type Credential = z.infer<typeof Credential>
