import { z } from 'zod'
import { besideTexts, placeTemplate, template } from './text'

/** Where records of a stream go: a topic, and in it the partition that follows from the key. */
export const StreamAddress = z.object({
  kind: z.literal('stream'),
  topic: placeTemplate,
  key: template(500).default('').describe('Template of the key by which a topic is parted, and within which order holds; empty: the topic'),
  ...besideTexts,
})
export type StreamAddress = z.infer<typeof StreamAddress>
