import { z } from 'zod'
import { CredentialUse, LoginPassword, LoginUser, TokenKey, TokenUser } from './credential'
import { HandedOver } from './intake'
import { TokenRecipe } from './token'

/** What is to take the place of what a credential holds: something among what was handed over, a log-in that is typed, or a key with its recipe. */
export const Replacement = z.discriminatedUnion('by', [
  z.object({ by: z.literal('handed'), handed: HandedOver, offer: z.string().max(100).describe('The id of what was offered of it') }),
  z.object({ by: z.literal('typed'), user: LoginUser, password: LoginPassword }),
  z.object({ by: z.literal('key'), user: TokenUser.default(''), recipe: TokenRecipe, key: TokenKey }),
])
export type Replacement = z.infer<typeof Replacement>

/** By whom the new one is tried before it is taken up. */
export const ReplacementCheck = z.object({ replacement: Replacement, use: CredentialUse.pick({ kind: true, id: true }) })
export type ReplacementCheck = z.infer<typeof ReplacementCheck>
