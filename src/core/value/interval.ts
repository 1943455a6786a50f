const steps = [
  { unit: 'h', ms: 3_600_000 },
  { unit: 'min', ms: 60_000 },
  { unit: 's', ms: 1000 },
] as const

/** An interval that was set, in the largest unit that says it without a fraction: 90000 is `90 s`, 600000 `10 min`, 1500 `1500 ms`. */
export function intervalText(ms: number): string {
  const step = steps.find((s) => ms > 0 && ms % s.ms === 0)
  return step ? `${ms / step.ms} ${step.unit}` : `${ms} ms`
}
