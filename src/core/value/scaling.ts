import type { Scaling } from '~/contract/tag'

/** What a scaled value is, and whether the raw one lay beyond the two points. */
export interface Scaled {
  value: number
  beyond: boolean
}

/**
 * Raw to engineering units along the line through (rawLow, low) and (rawHigh, high). Both points themselves come out
 * exactly. Beyond them the line goes on, or, with `clamp`, the value stays at the nearer end; either way `beyond` says so.
 * NaN and the infinities stay what they are, clamped infinities go to the ends.
 */
export function scale(s: Scaling, raw: number): Scaled {
  if (raw === s.rawLow) return { value: s.low, beyond: false }
  if (raw === s.rawHigh) return { value: s.high, beyond: false }
  const share = (raw - s.rawLow) / (s.rawHigh - s.rawLow)
  const beyond = share < 0 || share > 1
  if (beyond && s.clamp) return { value: share < 0 ? s.low : s.high, beyond }
  return { value: s.low + share * (s.high - s.low), beyond }
}

/** The way back, for writing: engineering units to raw. Not rounded; beyond the two points the line goes on. */
export function unscale(s: Scaling, value: number): number {
  if (value === s.low) return s.rawLow
  if (value === s.high) return s.rawHigh
  return s.rawLow + ((value - s.low) / (s.high - s.low)) * (s.rawHigh - s.rawLow)
}

/** How many engineering units one raw count is, without sign. */
export const slope = (s: Scaling) => Math.abs((s.high - s.low) / (s.rawHigh - s.rawLow))
