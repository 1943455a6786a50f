import { z } from 'zod'

export const FoundKind = z.enum(['tag', 'equipment', 'class', 'publication', 'source', 'destination', 'credential', 'topic'])
export type FoundKind = z.infer<typeof FoundKind>

/** Something with a name that was looked for. */
export const Found = z.object({
  kind: FoundKind,
  id: z.string().describe('Of a topic: that of its publication'),
  name: z.string(),
  aside: z.string().describe('What tells it from others: unit, level, state, protocol'),
  exact: z.boolean().describe('It, or the last part of its name, is called just so'),
})
export type Found = z.infer<typeof Found>
