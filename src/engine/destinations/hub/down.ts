import type { HubProfile } from '~/contract/hub-profile'
import { answerWriter, filledFor, type HubUnit } from '~/core/hub/profile'
import type { Clock } from '../../clock/clock'
import type { DestinationSink } from '../driver'
import type { Beside } from '../mqtt/driver'

/** So many things that a hub hands down are told a minute; the others are answered, and not told one by one. */
const TOLD_MOST = 20
const MINUTE_MS = 60_000
const TEXT_MOST = 300
/** Nothing is written by it yet, and the hub is told so (RFC 9110 15.6.2). */
const NOT_YET = new TextEncoder().encode(JSON.stringify({ status: 501, reason: 'received; nothing is written by it yet' }))

/** What of a payload people can read: its text, or how much it is. */
function textOf(payload: Uint8Array): string {
  try {
    const text = new TextDecoder('utf-8', { fatal: true }).decode(payload)
    return text.length > TEXT_MOST ? `${text.slice(0, TEXT_MOST)}...` : text
  } catch {
    return `${payload.length} octets`
  }
}

/** Hears what a hub hands down to its unit, tells it to people, and answers that nothing is written by it yet. */
export function downOf(profile: HubProfile, unit: HubUnit, sink: DestinationSink, clock: Clock): Omit<Beside, 'begun'> {
  if (profile.downFilter === '') return { filter: null, heard: () => undefined, refused: () => undefined }
  const filter = filledFor(profile.downFilter, unit)
  const prefix = filter.replace(/#$/, '')
  const answerTo = profile.answerTopic === '' ? null : answerWriter(profile, unit)
  let since = clock.mono()
  let told = 0
  return {
    filter,
    heard(topic, payload, say) {
      const place = topic.startsWith(prefix) ? topic.slice(prefix.length) : topic
      if (clock.mono() - since >= MINUTE_MS) {
        since = clock.mono()
        told = 0
      }
      if (++told <= TOLD_MOST) sink.asked(`hands down ${place}: ${textOf(payload)}`, 'Nothing is written by it: it is only received and answered')
      if (answerTo) say(answerTo(place), NOT_YET)
    },
    refused: (words) => sink.asked(`does not let this unit listen at ${filter}: ${words}`, 'Correct where the profile listens, or leave it empty'),
  }
}
