import type { Beside } from '~/core/compare/compare'
import { inOrder, type Track } from '~/core/compare/track'
import { chance } from '~/core/value/chance'

/** Signals and what arrives of them, to try comparisons with; an hour of values a second apart, about. */
export const FROM = Date.UTC(2026, 8, 14, 6)
export const TO = FROM + 3_600_000
export const kinds = ['wave', 'walk', 'count', 'step', 'still', 'name', 'switch', 'ramp', 'noise'] as const
export type Kind = (typeof kinds)[number]
type Chance = () => number

export const random = chance

function shapeOf(kind: Kind, r: Chance): (t: number, before: number) => number {
  const middle = 20 + r() * 900
  const size = 5 + r() * 100
  const period = 300 + r() * 1500
  switch (kind) {
    case 'wave': {
      const noise = size * 0.01
      return (t) =>
        middle + size * Math.sin((2 * Math.PI * t) / period) + (size / 3) * Math.sin((2 * Math.PI * t) / (period * 0.37)) + noise * (r() - 0.5)
    }
    case 'walk':
      return (t, before) => (t === 0 ? middle : before + (r() - 0.5) * size * 0.05)
    case 'count':
      return (t, before) => (t === 0 ? Math.round(middle) : before + Math.floor(r() * 3))
    case 'step':
      return (t, before) => (t === 0 || r() < 0.01 ? Math.round(middle + (r() - 0.5) * size) : before)
    case 'still':
      return () => Math.round(middle * 10) / 10
    case 'name':
      return (t, before) => (t === 0 || r() < 0.02 ? Math.floor(r() * 40) : before)
    case 'switch':
      return (t, before) => (t === 0 || r() < 0.05 ? 1 - (t === 0 ? 0 : before) : before)
    case 'ramp':
      return (t) => middle + (size * (t % period)) / period
    case 'noise':
      return () => middle + size * 0.02 * (r() - 0.5)
  }
}

export function signal(kind: Kind, r: Chance): Track {
  const next = shapeOf(kind, r)
  const out: Track = { at: [], value: [] }
  let before = 0
  for (let t = 0; t < 3600; t += 0.8 + Math.round(r() * 4) / 10) {
    before = next(t, before)
    out.at.push(FROM + Math.round(t * 1000))
    out.value.push(before)
  }
  return out
}

/** What arrives of a signal: each change beyond a width, or every so often; rounded; some lost. */
export function arrival(
  held: Track,
  r: Chance,
  { width = 0, decimals = null, everyMs = 0, lost = 0 }: { width?: number; decimals?: number | null; everyMs?: number; lost?: number },
): Track {
  const out: Track = { at: [], value: [] }
  const say = (at: number, v: number) => {
    if (r() < lost) return
    out.at.push(at)
    out.value.push(decimals === null ? v : Math.round(v * 10 ** decimals) / 10 ** decimals)
  }
  if (everyMs > 0) {
    let i = 0
    for (let at = held.at[0]!; at <= held.at.at(-1)!; at += everyMs) {
      while (i + 1 < held.at.length && held.at[i + 1]! <= at) i++
      say(at, held.value[i]!)
    }
    return inOrder(out)
  }
  let told = Number.NaN
  for (const [i, v] of held.value.entries()) {
    if (!Number.isNaN(told) && (width > 0 ? Math.abs(v - told) < width : v === told)) continue
    told = v
    say(held.at[i]!, v)
  }
  return out
}

export const beside = (held: Track, came: Track, o: Partial<Beside> = {}): Beside => ({
  ...{ held, came, saidLaterMs: [], stated: { factor: 1, offset: 0 }, units: { held: '', said: '' }, raw: null, logical: false, named: false },
  ...{ width: 0, slackMs: 0, behindMs: 0, from: FROM, to: TO },
  ...o,
})
