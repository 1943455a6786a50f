import { z } from 'zod'
import { CredentialUse } from './credential'
import { Id } from './id'

/** Something that ends by itself. */
export const Ending = z.object({
  key: z.string(),
  credentialId: Id.nullable().describe('The credential that it is, or belongs to; null: it is none'),
  name: z.string(),
  what: z.enum(['certificate', 'chain', 'authority', 'list', 'token', 'application', 'server', 'key']),
  from: z.string().nullable().describe('Since when it is good'),
  until: z.string(),
  uses: z.array(CredentialUse),
  stops: z.object({
    publications: z.array(z.string()).describe('Live ones, whose messages wait from then on'),
    tags: z.number().int().describe('Tags that are read with it'),
  }),
})
export type Ending = z.infer<typeof Ending>
