import { type Names, numberOf, type Track } from '~/core/compare/track'
import type { Scalar } from '~/core/value/deadband'
import { qualityOf } from '~/core/value/quality'
import type { Db } from '~/store/database'
import { deflatePacking } from '../outbox/packing'
import { playback } from '../recording/playback'

/** So many values are read for one answer. */
const SAMPLES_MOST = 2_000_000
/** A clock that goes back so far was set, ms. */
const STEP_MS = 1000

/** What a tag was: by when its device says so, and by when that came here. */
export interface TagTrack {
  byDevice: Track
  byArrival: Track
  last: { value: Scalar; at: number } | null
}

export interface TagTracks {
  /** From when it is known, epoch ms. */
  from: number
  to: number
  byHandle: Map<number, TagTrack>
  notes: string[]
}

const emptyTrack = (): TagTrack => ({ byDevice: { at: [], value: [] }, byArrival: { at: [], value: [] }, last: null })

/** What the recording has of some tags in a span of time (epoch ms); null: nothing. `named`: those that hold names. */
export async function tagTracks(
  db: Db,
  handles: ReadonlySet<number>,
  named: ReadonlySet<number>,
  names: Names,
  from: number,
  to: number,
): Promise<TagTracks | null> {
  const recorded = await playback(db, deflatePacking, handles, from, to)
  if (!recorded) return null
  const out: TagTracks = { from: recorded.from, to: recorded.to, byHandle: new Map(), notes: [] }
  let samples = 0
  let before = Number.NEGATIVE_INFINITY
  for await (const { at, handles: own, values, statuses, times } of recorded.moments) {
    if (samples > SAMPLES_MOST) {
      out.to = at
      out.notes.push(`There is too much of it: what came until then is compared. Choose a shorter time or fewer publications`)
      break
    }
    if (at < before - STEP_MS) {
      // The same times come again: what was before cannot be told from what is now.
      for (const track of out.byHandle.values()) restart(track, at)
      out.from = at
      out.notes.push('The clock of this machine went back in that time: only what came since then is compared')
    }
    before = at
    for (const [i, h] of own.entries()) {
      let track = out.byHandle.get(h)
      if (!track) out.byHandle.set(h, (track = emptyTrack()))
      const value = values[i]!
      const bad = qualityOf(statuses[i]!) === 'bad'
      const number = bad ? Number.NaN : named.has(h) ? names.of(value) : numberOf(value)
      push(track.byDevice, times[i]!, number)
      push(track.byArrival, at, number)
      if (!bad) track.last = { value, at: times[i]! }
      samples++
    }
  }
  if (recorded.damaged() > 0) out.notes.push(`${recorded.damaged()} stretches of the recording cannot be read: what was in them is missing`)
  return out
}

/** Times in order: where a device's clock went back, what it said before is let go. */
function push(track: Track, time: number, number: number): void {
  const last = track.at.at(-1) ?? time
  if (time < last - STEP_MS) {
    track.at = []
    track.value = []
  }
  track.at.push(Math.max(time, track.at.at(-1) ?? time))
  track.value.push(number)
}

/** What a tag held last is what it holds now. */
function restart(track: TagTrack, at: number): void {
  const value = track.byArrival.value.at(-1) ?? Number.NaN
  track.byArrival = { at: [at], value: [value] }
  track.byDevice = { at: track.byDevice.at.slice(-1), value: track.byDevice.value.slice(-1) }
}
