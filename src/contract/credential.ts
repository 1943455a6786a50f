import { z } from 'zod'
import { Id, Name } from './id'

const Pem = z.string().max(200_000)

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
    user: z.string().trim().min(1, 'Which user?').max(200),
    password: z.string().min(1, 'Which password?').max(1000),
  }),
])
export type CredentialDraft = z.infer<typeof CredentialDraft>

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
})
export type CertificateFacts = z.infer<typeof CertificateFacts>

export const Credential = z.object({
  id: Id,
  name: Name,
  kind: z.enum(['certificate', 'authority', 'password', 'application']),
  certificate: z.string().nullable().describe('PEM; public'),
  facts: CertificateFacts.nullable(),
  user: z.string().nullable(),
  usedBy: z.array(z.string()),
})
export type Credential = z.infer<typeof Credential>
