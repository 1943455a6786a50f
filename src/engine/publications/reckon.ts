import type { Plan } from '~/contract/publication'
import type { LookupAnswer } from '~/core/rows/looked-up'
import type { HostFacts } from '~/core/shape/shape'
import { LiveTable } from '../live/table'
import type { Playback } from '../recording/playback'
import type { Scripts } from '../scripts/scripts'
import { HeldRun, type Made } from './held-run'

/** What a publication would have sent of what was recorded. */
export interface Reckoned {
  /** Epoch ms. */
  from: number
  /** Earlier than asked where it took too long. */
  to: number
  cut: boolean
  messages: number
  /** Of all payloads together. */
  octets: number
  problems: string[]
}

export interface ReckonOptions {
  plan: Plan
  playback: Playback
  /** Epoch ms. */
  to: number
  scripts: Scripts
  host: HostFacts
  answers?: readonly LookupAnswer[]
  /** So long it may work, ms. */
  workMs: number
  made?: (m: Made) => void
  /** Hears of tags after each moment, when all that came of it was made. */
  seen?: (handles: Iterable<number>, table: LiveTable, at: number) => void
}

/** Runs a publication over what was recorded of its tags, as if it had been live then; null for an edge node, whose births belong to a connection. */
export async function reckon({ plan, playback, to, scripts, host, answers = [], workMs, made, seen }: ReckonOptions): Promise<Reckoned | null> {
  if (plan.shape.kind === 'sparkplug-b') return null
  const table = new LiveTable()
  let messages = 0
  let octets = 0
  const run = new HeldRun({
    ...{ plan, table, scripts, host, answers, from: playback.from },
    made: (m) => {
      messages++
      octets += m.payload.length
      made?.(m)
    },
  })
  const end = performance.now() + workMs
  let begun = false
  let cut = false
  let through = playback.from
  for await (const moment of playback.moments) {
    if (!begun) {
      table.apply(moment)
      await run.begin()
      begun = true
    } else await run.changed(moment)
    seen?.(moment.handles, table, moment.at)
    through = Math.max(through, moment.at)
    if (performance.now() <= end) continue
    cut = true
    break
  }
  const last = cut ? through : Math.max(to, through)
  await run.end(last)
  return { from: playback.from, to: last, cut, messages, octets, problems: [...run.problems] }
}
