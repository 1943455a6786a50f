/** A beat that comes every `periodMs`; aligned, it falls on multiples of it since 1970 (UTC), moved on by `phaseMs`. */
export interface BeatSettings {
  periodMs: number
  aligned: boolean
  phaseMs: number
}

const modulo = (n: number, by: number) => ((n % by) + by) % by

/**
 * How long it is until the first beat, ms; at once where it is not aligned. `wall` epoch ms.
 */
export function firstBeat({ periodMs, aligned, phaseMs }: BeatSettings, wall: number): number {
  return aligned ? modulo(phaseMs - wall, periodMs) : 0
}

/**
 * How long it is from one beat to the next, ms. Aligned, it is what brings it back to the clock, half a period sooner at the most
 * and less than one later: a clock that is set by an hour, either way, neither doubles a beat nor leaves one out.
 */
export function nextBeat({ periodMs, aligned, phaseMs }: BeatSettings, wall: number): number {
  if (!aligned) return periodMs
  const until = modulo(phaseMs - wall, periodMs)
  return until < periodMs / 2 ? until + periodMs : until
}
