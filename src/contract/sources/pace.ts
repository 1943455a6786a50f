import { z } from 'zod'

/** How often to try again: every kind of source has it. */
export const retryField = {
  retryMs: z
    .number({ error: 'A number of milliseconds' })
    .int()
    .min(500, 'At least 500 ms')
    .max(600_000, 'At most ten minutes')
    .meta({ label: 'Retry after', unit: 'ms', help: 'First wait after a lost link; grows to eight times this', group: 'Pace' }),
}

/** How often to read: sources that are asked, and do not speak by themselves. */
export const paceFields = {
  rateMs: z
    .number({ error: 'A number of milliseconds' })
    .int()
    .min(50, 'At least 50 ms')
    .max(3_600_000, 'At most an hour')
    .meta({ label: 'Update rate', unit: 'ms', group: 'Pace' }),
  ...retryField,
}

export const hostField = z
  .string()
  .trim()
  .min(1, 'Which host?')
  .max(253)
  .regex(/^[^\s/:]+$|^[0-9a-f:]+$/i, 'A name or an address, without port or path')

export const portField = z.number({ error: 'A port number' }).int().min(1, 'From 1 to 65535').max(65_535, 'From 1 to 65535')

/** How long to wait for an answer. */
export const timeoutField = z.number({ error: 'A number of milliseconds' }).int().min(50, 'At least 50 ms').max(120_000, 'At most two minutes')
