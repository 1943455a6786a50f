import { z } from 'zod'
import { CredentialUse, LoginPassword, LoginUser } from './credential'
import { HandedOver } from './intake'

/** What is to take the place of what a credential holds: something among what was handed over, or a log-in that is typed. */
export const Replacement = z.discriminatedUnion('by', [
  z.object({ by: z.literal('handed'), handed: HandedOver, offer: z.string().max(100).describe('The id of what was offered of it') }),
  z.object({ by: z.literal('typed'), user: LoginUser, password: LoginPassword }),
])
export type Replacement = z.infer<typeof Replacement>

/** By whom the new one is tried before it is taken up. */
export const ReplacementCheck = z.object({ replacement: Replacement, use: CredentialUse.pick({ kind: true, id: true }) })
export type ReplacementCheck = z.infer<typeof ReplacementCheck>
