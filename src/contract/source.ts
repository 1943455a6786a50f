import { z } from 'zod'
import { Id, Name } from './id'

/** OPC 10000-4 7.20: how messages are protected. */
export const SecurityMode = z.enum(['None', 'Sign', 'SignAndEncrypt'])
/** OPC 10000-7 6: the algorithms, by the last part of the policy's URI. */
export const SecurityPolicy = z.enum(['None', 'Basic256Sha256', 'Aes128_Sha256_RsaOaep', 'Aes256_Sha256_RsaPss'])

export const OpcUaSettings = z
  .object({
    endpoint: z
      .string()
      .trim()
      .regex(/^opc\.tcp:\/\/[^\s/:]+(:\d{1,5})?(\/\S*)?$/, 'Like opc.tcp://host:4840/path')
      .meta({ label: 'Endpoint', help: 'opc.tcp://host:port and a path if the server has one', group: 'Reach' }),
    mode: SecurityMode.meta({ label: 'Security mode', help: 'SignAndEncrypt unless the server cannot', group: 'Security' }),
    policy: SecurityPolicy.meta({ label: 'Security policy', group: 'Security' }),
    login: z.enum(['anonymous', 'user']).meta({ label: 'Log in as', group: 'Security' }),
    user: z.string().trim().max(200).optional().meta({ label: 'User', group: 'Security' }),
    serverThumbprint: z
      .string()
      .regex(/^([0-9a-f]{40})?$/i, '40 hexadecimal digits')
      .optional()
      .meta({ label: 'Server certificate', help: 'SHA-1 thumbprint; taken from the check', group: 'Security' }),
    rateMs: z
      .number({ error: 'A number of milliseconds' })
      .int()
      .min(50, 'At least 50 ms')
      .max(3_600_000, 'At most an hour')
      .meta({ label: 'Update rate', unit: 'ms', group: 'Pace' }),
    retryMs: z
      .number({ error: 'A number of milliseconds' })
      .int()
      .min(500, 'At least 500 ms')
      .max(600_000, 'At most ten minutes')
      .meta({ label: 'Retry after', unit: 'ms', help: 'First wait after a lost link; grows to eight times this', group: 'Pace' }),
  })
  .superRefine((s, ctx) => {
    if ((s.mode === 'None') !== (s.policy === 'None'))
      ctx.addIssue({ code: 'custom', path: ['policy'], message: 'Mode and policy must both be None or neither' })
    if (s.login === 'user' && !s.user) ctx.addIssue({ code: 'custom', path: ['user'], message: 'Which user?' })
  })
export type OpcUaSettings = z.infer<typeof OpcUaSettings>

export const SourceDraft = z.object({
  name: Name,
  kind: z.literal('opcua'),
  settings: OpcUaSettings,
  enabled: z.boolean().default(true),
  password: z.string().max(500).optional().describe('Write only: kept encrypted, never returned; left out keeps the one stored'),
})
export type SourceDraft = z.infer<typeof SourceDraft>

export const Source = SourceDraft.omit({ password: true }).extend({
  id: Id,
  hasPassword: z.boolean(),
  version: z.number().int(),
  tagCount: z.number().int(),
})
export type Source = z.infer<typeof Source>

/** A draft to be checked; `id` lets a stored password stand in for one that wasn't typed again. */
export const SourceCheck = SourceDraft.extend({ id: Id.optional() })
export type SourceCheck = z.infer<typeof SourceCheck>

/** One node of a source's address space (OPC 10000-3). */
export const BrowseNode = z.object({
  address: z.string(),
  name: z.string(),
  kind: z.enum(['folder', 'variable']),
  hasChildren: z.boolean(),
  dataType: z.string().optional(),
  unit: z.string().optional(),
  description: z.string().optional(),
  value: z.string().optional(),
  writable: z.boolean().optional(),
  path: z.string().optional().describe('Names from the root, with / between'),
})
export type BrowseNode = z.infer<typeof BrowseNode>

export const BrowseQuery = z.object({ address: z.string().default(''), deep: z.boolean().default(false) })
