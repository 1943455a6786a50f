import { z } from 'zod'

const Percent = z.number('A number').min(0, 'At least 0 %').max(100, 'At most 100 %')
/** A span of time, s. */
const seconds = (least: number, words: string) =>
  z
    .number({ error: 'A number of seconds' })
    .min(least, words)
    .max(30 * 86_400, 'At most 30 days')

/** By how much a number must differ from what was sent last, in the place of what each tag says; zero: every change counts. */
export const PublicationDeadband = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('absolute'), size: z.number('A number').min(0, 'At least 0').describe('In the unit of each member') }),
  z.object({ kind: z.literal('range'), percent: Percent.describe("Of the member's range; one without a range: every change counts") }),
  z.object({ kind: z.literal('value'), percent: Percent.describe('Of the value that was sent last') }),
])
export type PublicationDeadband = z.infer<typeof PublicationDeadband>

/** When a publication speaks of itself. What stands in `pace` lies on top. */
export const Trigger = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('change'), deadband: PublicationDeadband.optional().describe("Absent: each tag's own") }),
  z.object({
    kind: z.literal('every'),
    seconds: z.number({ error: 'A number of seconds' }).min(0.1, 'At least 0.1 s').max(86_400, 'At most a day'),
    aligned: z.boolean().optional().describe('On multiples of it since 1970, UTC; else from the go-live on'),
    phaseS: z.number({ error: 'A number of seconds' }).min(0, 'At least 0 s').max(86_400, 'At most a day').optional().describe('So much after them'),
  }),
  z.object({
    kind: z.literal('when'),
    condition: z.string().trim().min(1, 'What has to hold?').max(4000).describe('An expression (CEL) over the members of each equipment'),
    until: z.string().trim().max(4000).optional().describe('When it is over again; empty: when the condition does not hold any more'),
    holdS: seconds(0, 'At least 0 s').optional().describe('It has to hold for so long before it counts'),
    on: z.enum(['begin', 'while']).describe('begin: one message when it begins to count; while: that, and each change as long as it does'),
  }),
  z.object({
    kind: z.literal('schedule'),
    cron: z.string().trim().max(200).describe('Minute, hour, day of the month, month, day of the week; six fields with seconds before them'),
    zone: z.string().trim().max(100).describe('Time zone, by its name in the IANA database'),
  }),
  z.object({
    kind: z.literal('event'),
    of: z
      .enum(['value', 'record', 'joined'])
      .describe('value: one comes in, whether or not it is another; record: what a record source gave is another; joined: equipment joins'),
    member: z.string().trim().max(500).optional().describe('Of value: only of the member of this key; absent: of any'),
  }),
  z.object({ kind: z.literal('hand') }),
])
export type Trigger = z.infer<typeof Trigger>

/** How often each message may go, whatever triggers it. */
export const Pace = z
  .object({
    mostS: seconds(0.1, 'At least 0.1 s').optional().describe('At most every so many s; what comes sooner goes then, with the values of that moment'),
    leastS: seconds(1, 'At least 1 s').optional().describe('At least every so many s, though nothing changed'),
    first: z.boolean().optional().describe('Whether it speaks when it begins to run; absent: as its trigger has it'),
  })
  .refine(({ mostS, leastS }) => mostS === undefined || leastS === undefined || mostS <= leastS, {
    path: ['leastS'],
    message: 'Not more often than at most',
  })
export type Pace = z.infer<typeof Pace>

/** Whether a publication speaks as soon as it runs, where nobody chose. */
export const speaksFirst = (trigger: Trigger, pace: Pace | undefined): boolean =>
  pace?.first ?? (trigger.kind === 'change' || (trigger.kind === 'every' && !trigger.aligned) || (trigger.kind === 'event' && trigger.of !== 'value'))
