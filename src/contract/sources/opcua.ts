import { z } from 'zod'
import { paceFields } from './pace'

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
    ...paceFields,
  })
  .superRefine((s, ctx) => {
    if ((s.mode === 'None') !== (s.policy === 'None'))
      ctx.addIssue({ code: 'custom', path: ['policy'], message: 'Mode and policy must both be None or neither' })
    if (s.login === 'user' && !s.user) ctx.addIssue({ code: 'custom', path: ['user'], message: 'Which user?' })
  })
export type OpcUaSettings = z.infer<typeof OpcUaSettings>
