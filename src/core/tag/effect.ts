import type { Scaling } from '~/contract/tag'
import { isChange } from '../value/deadband'
import { unscale } from '../value/scaling'

/** Readings at even distances; null: no usable value then. */
export type Readings = readonly (number | null)[]

/** How many of these readings differ from the last one that counted by more than `width`; the first counts. */
export function changesBeyond(readings: Readings, width: number): number {
  let last: number | null = null
  let count = 0
  for (const reading of readings) {
    if (reading === null || (last !== null && !isChange(last, reading, width))) continue
    last = reading
    count++
  }
  return count
}

/** How many values a day would be kept if every day went as these readings, taken every `everyMs`; null: too few to say. */
export function keptADay(readings: Readings, everyMs: number, rule: { width: number; minMs: number; maxMs: number }): number | null {
  let last: number | null = null
  let lastAt = 0
  let count = 0
  let known = 0
  readings.forEach((reading, i) => {
    if (reading === null) return
    known++
    const since = i * everyMs - lastAt
    const due = last === null || (rule.maxMs > 0 && since >= rule.maxMs) || (isChange(last, reading, rule.width) && since >= rule.minMs)
    if (!due) return
    last = reading
    lastAt = i * everyMs
    count++
  })
  return known < 12 ? null : Math.round((count * 86_400_000) / (readings.length * everyMs))
}

/** The raw value behind a scaled one; `beyond`: it may lie further out. */
export function rawOf(scaling: Scaling, value: number): { raw: number; beyond: boolean } {
  const raw = Number(unscale(scaling, value).toPrecision(9))
  return { raw, beyond: scaling.clamp && (raw === scaling.rawLow || raw === scaling.rawHigh) }
}
