import { z } from 'zod'
import { Id } from '../id'
import { paceFields } from './pace'

/** OPC 10000-4 7.20: how messages are protected. */
export const SecurityMode = z.enum(['None', 'Sign', 'SignAndEncrypt'])
export type SecurityMode = z.infer<typeof SecurityMode>
/** OPC 10000-7 6: the algorithms, by the last part of the policy's URI. */
export const SecurityPolicy = z.enum(['None', 'Basic128Rsa15', 'Basic256', 'Basic256Sha256', 'Aes128_Sha256_RsaOaep', 'Aes256_Sha256_RsaPss'])
export type SecurityPolicy = z.infer<typeof SecurityPolicy>

/** Policies that no longer protect: none at all, and those with SHA-1 (deprecated in OPC 10000-7 6.6). */
export const weakPolicies: readonly SecurityPolicy[] = ['None', 'Basic128Rsa15', 'Basic256']

/** SHA-256 of a certificate; those that were trusted long ago may still be known by their SHA-1. */
const thumbprint = z.string().regex(/^(?:[0-9a-f]{64}|[0-9a-f]{40})?$/i, '64 hexadecimal digits')

/** opc.tcp addresses (OPC 10000-6 7.1.2). */
export const OpcUaEndpoint = z
  .string()
  .trim()
  .regex(/^opc\.tcp:\/\/[^\s/:]+(:\d{1,5})?(\/\S*)?$/, 'Like opc.tcp://host:4840/path')

export const OpcUaSettings = z
  .object({
    endpoint: OpcUaEndpoint.meta({ label: 'Endpoint', help: 'opc.tcp://host:port and a path if the server has one', group: 'Reach' }),
    mode: SecurityMode.meta({ label: 'Security mode', help: 'SignAndEncrypt unless the server cannot', group: 'Security' }),
    policy: SecurityPolicy.meta({ label: 'Security policy', group: 'Security' }),
    login: z.enum(['anonymous', 'user', 'certificate']).meta({ label: 'Log in as', group: 'Security' }),
    user: z.string().trim().max(200).optional().meta({ label: 'User', group: 'Security' }),
    credentialId: Id.nullable().default(null).meta({ label: 'Certificate', help: 'Of the person or role that logs in', group: 'Security' }),
    serverThumbprint: thumbprint
      .optional()
      .meta({ label: 'Trusted server', help: 'SHA-256 of its certificate: the check shows it, you trust it', group: 'Security' }),
    serverCertificate: z.string().max(20_000).optional().describe('The certificate that was trusted, PEM: when it ends is warned of'),
    refusedThumbprint: thumbprint.optional().describe('A server certificate that somebody refused'),
    ...paceFields,
    samplingMs: z
      .number({ error: 'A number of milliseconds' })
      .int()
      .min(0)
      .max(3_600_000)
      .default(0)
      .meta({ label: 'Sampled every', unit: 'ms', help: '0: at the update rate. Faster: values between two updates queue up', group: 'Pace' }),
    queue: z
      .number({ error: 'A whole number' })
      .int()
      .min(1, 'At least 1')
      .max(10_000)
      .default(10)
      .meta({ label: 'Queue', unit: 'values', help: 'A tag, kept by the server between two updates', group: 'Pace' }),
    deadbands: z
      .enum(['here', 'server'])
      .default('here')
      .meta({ label: 'Deadbands kept by', help: 'server: less traffic, but the table shows coarser values', group: 'Pace' }),
  })
  .superRefine((s, ctx) => {
    if ((s.mode === 'None') !== (s.policy === 'None'))
      ctx.addIssue({ code: 'custom', path: ['policy'], message: 'Mode and policy must both be None or neither' })
    if (s.login === 'user' && !s.user) ctx.addIssue({ code: 'custom', path: ['user'], message: 'Which user?' })
    if (s.login === 'certificate' && !s.credentialId) ctx.addIssue({ code: 'custom', path: ['credentialId'], message: 'Which certificate?' })
  })
export type OpcUaSettings = z.infer<typeof OpcUaSettings>

/** A certificate as people compare it. */
export const ShownCertificate = z.object({
  thumbprint: z.string().describe('SHA-1, lower-case hex: OPC 10000-6 6.2.3'),
  sha256: z.string().describe('Lower-case hex'),
  subject: z.string(),
  issuer: z.string(),
  notBefore: z.string(),
  notAfter: z.string(),
})
export type ShownCertificate = z.infer<typeof ShownCertificate>

/** One way in that a server offers (OPC 10000-4 7.14). */
export const OfferedEndpoint = z.object({
  url: z.string(),
  mode: z.string(),
  policy: z.string(),
  weak: z.boolean(),
  /** Modes and policies that Embrik does not speak can be seen but not taken. */
  known: z.boolean(),
  logins: z.array(z.enum(['anonymous', 'user', 'certificate', 'token'])),
  certificate: ShownCertificate.nullable(),
  server: z.string(),
})
export type OfferedEndpoint = z.infer<typeof OfferedEndpoint>
