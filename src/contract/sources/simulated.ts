import { z } from 'zod'
import { paceFields } from './pace'

/** Signals computed by Embrik itself: for trying things out before a device is there. */
export const SimulatedSettings = z.object({
  seed: z
    .number({ error: 'A whole number' })
    .int()
    .min(0)
    .max(4_294_967_295)
    .meta({ label: 'Seed', help: 'The same seed gives the same walk and noise', group: 'Signals' }),
  recording: z
    .string()
    .max(2_000_000, 'At most 2,000,000 characters')
    .meta({ label: 'Recording', help: 'CSV for replay: a heading row, times in the first column', group: 'Signals', area: true }),
  ...paceFields,
})
export type SimulatedSettings = z.infer<typeof SimulatedSettings>
