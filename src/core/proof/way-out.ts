import type { DestinationFact, WayFacts } from './way-facts'
import { ago, many, number, type Said } from './way-text'

/** A message without an answer for so long is told, ms. */
const SLOW_MS = 3000
/** What has waited to be seen for so long is told, ms. */
const UNSEEN_MS = 30_000
/** Outboxes fuller than this share are told. */
const NEARLY_FULL = 0.95

export function ofOutbox({ store, destination: d, recent }: WayFacts): Said {
  if (store)
    return { state: 'stops', name: 'Database', words: `${store.message}: what is not stored is not sent`, hint: store.hint, since: store.since }
  const waiting = d && d.waiting > 0 ? `${many(d.waiting, 'message')} waiting` : 'nothing waits'
  if (d && d.bytes > NEARLY_FULL * d.cap)
    return { state: 'part', words: `full, so that the oldest are dropped; ${waiting}`, hint: 'Give it more room, or mend what is behind it' }
  if (recent && recent.dropped > 0 && !recent.over)
    return {
      state: 'part',
      words: `${number(recent.dropped)} of the last ${number(recent.produced)} were dropped: no room, or too old; ${waiting}`,
      hint: 'Give it more room or time under the settings of the destination',
      since: recent.since,
    }
  return { state: 'fine', words: waiting }
}

export function ofConnection(d: DestinationFact): Said {
  const named = { name: d.name, id: d.id }
  const c = d.condition
  if (!d.enabled || c?.state === 'off')
    return {
      ...named,
      state: 'stops',
      words: c && d.enabled ? c.reason : 'switched off',
      hint: d.enabled ? (c?.hint ?? '') : 'Switch the destination on',
      since: c?.since ?? null,
    }
  if (!c) return { ...named, state: 'stops', words: 'it does not run', hint: 'Look whether the engine runs' }
  if (d.connected || c.state === 'running') return { ...named, state: 'fine', words: 'stands' }
  return { ...named, state: 'stops', words: c.reason, hint: c.hint, since: c.since }
}

export function ofTaking({ recent }: WayFacts, d: DestinationFact): Said {
  const named = { name: d.name, id: d.id }
  const c = d.condition
  if (!d.connected && c?.state !== 'running') return { ...named, state: 'unknown', words: 'not reached' }
  if (c?.state === 'trouble') return { ...named, state: 'stops', words: c.reason, hint: c.hint, since: c.since }
  const arrives = recent ? recent.confirmed + recent.late + recent.disordered + recent.doubled : 0
  if (d.aside && !recent?.over)
    return {
      ...named,
      state: arrives === 0 ? 'stops' : 'part',
      words: `${many(d.aside.count, 'message')} went aside of late: ${d.aside.message}`,
      hint: d.aside.hint,
      since: d.aside.at,
    }
  if (d.unansweredMs !== null && d.unansweredMs > SLOW_MS)
    return {
      ...named,
      state: arrives === 0 ? 'stops' : 'part',
      words: `has not answered to a message for ${ago(d.unansweredMs)}`,
      hint: 'The other side is slow, or it takes none: look there',
    }
  return { ...named, state: 'fine', words: 'takes what is sent' }
}

export function ofWitness({ recent, now }: WayFacts, d: DestinationFact): Said {
  const named = { name: `Witness of ${d.name}`, id: d.id }
  if (d.witness === 'none')
    return { ...named, state: 'unknown', words: 'nobody reads the far end', hint: 'Switch the witness on: only then can be said what arrives' }
  if (d.witness === 'away') {
    const c = d.witnessCondition
    return {
      ...named,
      state: 'unknown',
      words: `it is away, so nobody can say what arrives: ${c?.reason ?? 'it does not run'}`,
      hint: c?.hint || 'It comes back with the destination',
      since: c?.since ?? null,
    }
  }
  if (!recent || recent.produced === 0) return { ...named, state: 'fine', words: 'reads; nothing was made of late' }
  const { missing, altered } = recent
  const arrived = recent.confirmed + recent.late + recent.disordered + recent.doubled
  const wrong = { ...named, since: recent.wrongSince }
  if (recent.over && missing + altered > 0)
    return {
      ...named,
      state: 'fine',
      words: `all arrive again; ${number(missing + altered)} of the last ${number(recent.produced)} did not, or altered`,
    }
  if (missing > 0)
    return {
      ...wrong,
      state: arrived === 0 ? 'stops' : 'part',
      words: `${number(missing)} of the last ${number(recent.produced)} were acknowledged and did not arrive`,
      hint: 'They were lost behind the acknowledgement: look at the other side, at its rules and at its memory',
    }
  if (altered > 0)
    return {
      ...wrong,
      state: 'part',
      words: `${number(altered)} of the last ${number(recent.produced)} arrived with another payload than was sent`,
      hint: 'Something between here and there changes them: open one in the journal',
    }
  if (recent.unknown > 0 && !recent.over)
    return {
      ...named,
      state: 'unknown',
      words: `of ${number(recent.unknown)} of the last ${number(recent.produced)} nobody can say what became of them`,
      hint: 'The witness was away, or came too late: the events say which',
    }
  if (arrived === 0 && recent.waitingSince !== null && now - recent.waitingSince > UNSEEN_MS)
    return {
      ...named,
      state: 'unknown',
      words: `none of the last ${number(recent.produced)} was seen yet, and it is too early to call them missing`,
      hint: 'Wait for the limit of the destination, or look what the witness reads',
      since: recent.waitingSince,
    }
  return { ...named, state: 'fine', words: `${number(arrived)} of the last ${number(recent.produced)} arrived` }
}
