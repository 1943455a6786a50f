import { z } from 'zod'
import { Id, Name } from './id'
import { HandedOver } from './intake'

/** Keys that are made here: curves of NIST SP 800-186, RSA of RFC 8017. */
export const KeyKind = z.enum(['P-256', 'P-384', 'RSA 2048', 'RSA 3072', 'RSA 4096'])
export type KeyKind = z.infer<typeof KeyKind>

/** Parts of a subject have 64 characters at most (RFC 5280 appendix A.1). */
const Part = z
  .string()
  .trim()
  .max(64, 'At most 64 characters')
  .refine((text) => !/\p{Cc}/u.test(text), 'No control characters, please')

const subject = {
  name: Name.describe('How it is called here'),
  commonName: Part.min(1, 'Whom is it for?'),
  organization: Part.default(''),
  key: KeyKind.default('P-256'),
}

const DNS_NAME = /^(?:\*\.)?[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?)*$/i
/** Digits and dots alone are an address, or nothing. */
const LIKE_ADDRESS = /^[\d.]+$|:/

/** A name of the domain name system, a star before it perhaps (RFC 9525 6.3), or an address. */
export const HostName = z
  .string()
  .trim()
  .max(253)
  .refine(
    (text) => (LIKE_ADDRESS.test(text) ? z.union([z.ipv4(), z.ipv6()]).safeParse(text).success : DNS_NAME.test(text)),
    'Like broker.example, *.example or 10.0.0.7',
  )

/** What a certificate is to be good for. */
export const CertificateUse = z.enum(['client', 'server', 'both'])
export type CertificateUse = z.infer<typeof CertificateUse>

const leaf = {
  ...subject,
  use: CertificateUse.default('client'),
  hosts: z.array(HostName).max(50, 'At most 50').default([]).describe('Names and addresses under which a server is reached'),
}
const hostsWhereServer = (draft: { use: CertificateUse; hosts: string[] }) => draft.use === 'client' || draft.hosts.length > 0
const wanted = { path: ['hosts'], message: 'Under which names or addresses is the server reached?' }

const days = (most: number) => z.number('How many days?').int('Whole days').min(1, 'At least 1 day').max(most, `At most ${most} days`)

export const MakeAuthority = z.object({ ...subject, days: days(7300).default(3650) })
export type MakeAuthority = z.infer<typeof MakeAuthority>

export const IssueCertificate = z.object({ ...leaf, authorityId: Id, days: days(3650).default(397) }).refine(hostsWhereServer, wanted)
export type IssueCertificate = z.infer<typeof IssueCertificate>

export const MakeRequest = z.object(leaf).refine(hostsWhereServer, wanted)
export type MakeRequest = z.infer<typeof MakeRequest>

/** What somebody else's authority answered to a signing request. */
export const RequestAnswer = HandedOver
export type RequestAnswer = z.infer<typeof RequestAnswer>

/** Why a certificate is taken back (RFC 5280 5.3.1). */
export const TakeBackReason = z.enum(['unspecified', 'keyCompromise', 'affiliationChanged', 'superseded', 'cessationOfOperation'])
export type TakeBackReason = z.infer<typeof TakeBackReason>

/** A certificate that an authority of ours signed. */
export const Issued = z.object({
  serial: z.string().describe('Lower-case hex'),
  subject: z.string(),
  issuedAt: z.string(),
  notAfter: z.string(),
  takenBackAt: z.string().nullable(),
  reason: TakeBackReason.nullable(),
})
export type Issued = z.infer<typeof Issued>

export const TakeBack = z.object({ serial: z.string().regex(/^[0-9a-f]{2,64}$/), reason: TakeBackReason.default('unspecified') })
export type TakeBack = z.infer<typeof TakeBack>
