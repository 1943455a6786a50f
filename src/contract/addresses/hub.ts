import { z } from 'zod'
import { besideTexts, placeTemplate } from './text'

/** Where and how messages go at a cloud hub: its profile makes topics of it. */
export const HubAddress = z.object({
  kind: z.literal('hub'),
  topic: placeTemplate,
  ...besideTexts,
  qos: z.union([z.literal(0), z.literal(1), z.literal(2)]).default(1),
})
export type HubAddress = z.infer<typeof HubAddress>
