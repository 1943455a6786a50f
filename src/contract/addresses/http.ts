import { z } from 'zod'
import { besideTexts, placeTemplate } from './text'

/** Where messages go by HTTP: a path under the address of the destination. */
export const HttpAddress = z.object({
  kind: z.literal('http'),
  topic: placeTemplate,
  method: z.enum(['POST', 'PUT', 'PATCH']).default('POST'),
  ...besideTexts,
})
export type HttpAddress = z.infer<typeof HttpAddress>
