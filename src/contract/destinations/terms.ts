import { z } from 'zod'

/*
 * On what terms messages go to a destination, whatever its kind: in parts, so that a kind's form can have its own fields beside them.
 */

/** When it is tried again, and when it has been silent for too long. */
export const paceTerms = {
  retryMs: z
    .number()
    .int()
    .min(200, 'At least 200 ms')
    .max(600_000)
    .meta({ label: 'Retry after', unit: 'ms', help: 'Twice as long after each try that fails, up to eight times', group: 'Pace' }),
  ackS: z
    .number()
    .int()
    .min(2, 'At least 2 s')
    .max(3600)
    .default(20)
    .meta({ label: 'Acknowledged within', unit: 's', help: 'Else Embrik connects anew and sends again', group: 'Pace' }),
}

/** How far what is sent may be ahead of its answers. */
export const windowTerm = (usual: number, help: string) => ({
  window: z.number().int().min(1).max(20_000).default(usual).meta({ label: 'In flight', help, group: 'Pace' }),
})

/** Whether it is read back, and when what is not seen counts as missing. */
export const witnessTerms = {
  witness: z.boolean().meta({ label: 'Witness', help: 'Read everything back with a connection of its own', group: 'Witness' }),
  lateS: z.number().int().min(1, 'At least 1 s').max(172_800).default(30).meta({
    label: 'Late after',
    unit: 's',
    help: 'Not seen that long after it was acknowledged (or went out, where nobody does that): missing',
    group: 'Witness',
  }),
}

/** What is kept for it while it is away. */
export const outboxTerms = {
  outboxMb: z.number().int().min(1).max(1_000_000).meta({ label: 'Outbox up to', unit: 'MB', group: 'Outbox' }),
  outboxHours: z
    .number()
    .min(0)
    .max(87_600)
    .default(0)
    .meta({ label: 'Waits at most', unit: 'h', help: 'What waits longer is dropped, and counted so. 0: however long', group: 'Outbox' }),
  drainPerS: z.number().min(0).max(1_000_000).default(0).meta({
    label: 'After an outage',
    unit: '/s',
    help: 'What waited goes out no faster than that, the oldest first. 0: as fast as it goes',
    group: 'Outbox',
  }),
  journalHours: z
    .number()
    .min(0)
    .max(8760)
    .default(24)
    .meta({ label: 'Journal of', unit: 'h', help: 'So long any message that went through can be opened whole. 0: not at all', group: 'Journal' }),
  journalMb: z
    .number()
    .int()
    .min(0)
    .max(1_000_000)
    .default(256)
    .meta({ label: 'Journal up to', unit: 'MB', help: 'Beyond it the oldest leave it; 0: no journal', group: 'Journal' }),
}

/** What a new destination keeps, unless somebody says otherwise. */
export const freshOutboxTerms = { outboxMb: 500, outboxHours: 0, drainPerS: 0, journalHours: 24, journalMb: 256 }

const Terms = z.object({
  ...paceTerms,
  ...witnessTerms,
  ...outboxTerms,
  /** Of those kinds whose far ends count how often somebody connects. 0 or none: as often as its waits allow. */
  connectsPerMin: z.number().optional(),
})
/** What the settings of every kind hold. */
export type Terms = z.infer<typeof Terms>
