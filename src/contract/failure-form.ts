import { z } from 'zod'
import { FailureError } from './failure'

/** The hop at which something failed. */
export const Hop = z.enum([
  'web',
  'engine',
  'database',
  'source',
  'tag',
  'equipment',
  'publication',
  'outbox',
  'destination',
  'witness',
  'ledger',
  'credential',
  'proof',
])
export type Hop = z.infer<typeof Hop>

/** The one form of an error: what happened, what to do about it, and at which hop. */
export const Failure = z.object({
  code: z.string().describe('Stable, for programs: lower case with dots'),
  message: z.string().describe('What happened'),
  hint: z.string().describe('What to do about it'),
  where: Hop,
  fields: z.record(z.string(), z.string()).optional().describe('Message by path of each refused field'),
  retryS: z.number().optional().describe('Seconds after which it may be tried again'),
})
export type Failure = z.infer<typeof Failure>

/** Turns a Zod error into the one form, one message a path. */
export function invalid(error: z.ZodError, where: Hop = 'web'): FailureError {
  const fields: Record<string, string> = {}
  for (const issue of error.issues) fields[issue.path.join('.') || 'body'] ??= issue.message
  const first = Object.entries(fields)[0]
  return new FailureError(
    {
      code: 'input.invalid',
      message: first ? `${first[0]}: ${first[1]}` : 'The input is not valid',
      hint: 'Correct the named fields and send again; nothing was saved',
      where,
      fields,
    },
    422,
  )
}

/** One step of a check: what was tried, what came back, how long it took, what to do. */
export const CheckStep = z.object({
  key: z.string(),
  label: z.string(),
  state: z.enum(['passed', 'failed', 'skipped', 'running']),
  detail: z.string().default(''),
  ms: z.number().nullable().default(null).describe('Duration in milliseconds'),
  failure: Failure.optional(),
  facts: z.record(z.string(), z.string()).optional().describe('Things found out that the form can take over'),
})
export type CheckStep = z.infer<typeof CheckStep>
