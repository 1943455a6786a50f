/** How an outbox stands that fills. */
export interface OutboxFill {
  bytes: number
  cap: number
  waiting: number
  /** How long its destination has been away, ms; null: it is there. */
  sinceMs: number | null
}

/** Emptier than this nothing is said. */
const WORTH_SAYING = 0.02

/** `71 % full with 40,000 messages; at this rate full in 3 h`; null: nothing to say. `fullAt` in ms from now, null: not known. */
export function outboxWords({ bytes, cap, waiting, sinceMs }: OutboxFill): { text: string; fullAt: number | null } | null {
  const share = bytes / cap
  if (waiting === 0 || share < WORTH_SAYING) return null
  const fullAt = sinceMs !== null && sinceMs > 10_000 ? ((cap - bytes) / bytes) * sinceMs : null
  const hours = fullAt === null ? null : fullAt / 3_600_000
  const when =
    hours === null
      ? ''
      : hours < 1
        ? `${Math.max(1, Math.round(hours * 60))} min`
        : hours < 48
          ? `${hours.toFixed(0)} h`
          : `${Math.round(hours / 24)} days`
  const text = `${Math.floor(100 * share)} % full with ${new Intl.NumberFormat('en').format(waiting)} messages${when && `; at this rate full in ${when}`}`
  return { text, fullAt }
}
