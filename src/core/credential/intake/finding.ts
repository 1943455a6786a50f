import type { IntakeFinding } from '~/contract/intake'

/** One thing that is to be known of what was handed over, with what to do about it. */
export const finding = (severity: IntakeFinding['severity'], code: string, message: string, hint: string): IntakeFinding => ({
  severity,
  code: `credential.${code}`,
  message,
  hint,
})

/** A day as it is written everywhere: `2027-04-01`; empty: it is none. */
export const dayOf = (at: Date): string => (Number.isFinite(+at) ? at.toISOString().slice(0, 10) : '')
