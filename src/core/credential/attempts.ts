/** How many wrong tries are free, and how long the door stays shut after more. */
export interface AttemptRule {
  free: number
  /** After the first try too many, ms; doubles with each further one. */
  firstMs: number
  mostMs: number
  /** Tries are forgotten so long after the last, ms. */
  forgetMs: number
}

/** Of one account: slow enough against guessing, short enough that nobody can lock its owner out for long. */
export const accountRule: AttemptRule = { free: 5, firstMs: 5_000, mostMs: 60_000, forgetMs: 3_600_000 }
/** Of one address, whichever accounts it tries. */
export const addressRule: AttemptRule = { free: 20, firstMs: 15_000, mostMs: 120_000, forgetMs: 3_600_000 }

/** How long the door is shut after so many failures in a row, ms; 0: it is open. */
export function shutMs(rule: AttemptRule, failures: number): number {
  const over = failures - rule.free
  return over < 0 ? 0 : Math.min(rule.mostMs, rule.firstMs * 2 ** Math.min(over, 30))
}
