import type { Failure } from '~/contract/failure'
import type { Condition } from '~/contract/live'
import type { Trigger } from '~/contract/trigger'
import type { HopState, Way, WayHop, WayHopName } from '~/contract/way'
import { some } from '../address/some'
import { qualityOf, reasonOf, Status } from '../value/quality'
import type { RecentFact } from './recent'

/** A tag that is read for a publication. */
export interface TagFact {
  id: string | null
  name: string
  sourceId: string
  /** OPC UA status code. */
  status: number
  /** What its device says of it. */
  note: string
  /** When a value came last, epoch ms; 0: never. */
  seen: number
}

export interface SourceFact {
  id: string
  name: string
  /** Null: it does not run here. */
  condition: Condition | null
}

/** How a publication stands. */
export interface PublicationFact {
  id: string
  name: string
  state: 'draft' | 'live' | 'paused' | 'removed'
  /** A clause that is switched off. */
  off: boolean
  version: number | null
  broken: { failure: Failure; since: number } | null
}

/** What the publisher of a live one knows. */
export interface SpeakingFact {
  trigger: Trigger
  /** Since when this version runs, and when it spoke last; epoch ms. */
  since: number
  last: number | null
  /** Messages that have all their first values, of so many. */
  ready: number
  messages: number
  /** Messages whose condition counts now; null: it has none. */
  holding: number | null
  /** When it speaks next by its schedule; null: it has none, or never. */
  next: number | null
  /** Whether some message has something new to say. */
  news: boolean
  /** How many messages it can't make, and why. */
  failing: { messages: number; words: string } | null
  steps: readonly { step: number; name: string; passed: number; held: number }[]
  stepTrouble: { count: number; words: string } | null
  /** Members that give no value though what they are made from is good. */
  unanswered: readonly string[]
}

export interface DestinationFact {
  id: string
  name: string
  enabled: boolean
  /** Null: it does not run here. */
  condition: Condition | null
  /** Whether a connection stands. */
  connected: boolean
  /** How long the oldest message has been without an answer, ms; null: none is under way. */
  unansweredMs: number | null
  waiting: number
  bytes: number
  cap: number
  /** The latest message of the publication that went aside; null: none of late. */
  aside: { at: number; count: number; message: string; hint: string } | null
  /** Whether somebody reads the far end. */
  witness: 'none' | 'away' | 'there'
  witnessCondition: Condition | null
}

export interface WayFacts {
  /** Epoch ms. */
  now: number
  sources: readonly SourceFact[]
  tags: readonly TagFact[]
  /** Where it is asked for a tag: the members that it fills, or null where nothing was asked. */
  filled: readonly string[] | null
  /** Null: nothing that sends it is known. */
  publication: PublicationFact | null
  speaking: SpeakingFact | null
  store: { message: string; hint: string; since: number } | null
  destination: DestinationFact | null
  recent: RecentFact | null
}

/** Values that came more than this after the last message are news that were not spoken of, ms. */
const QUIET_MS = 15_000
/** A message without an answer for so long is told, ms. */
const SLOW_MS = 3000
/** What has waited to be seen for so long is told, ms. */
const UNSEEN_MS = 30_000
/** Outboxes fuller than this share are told. */
const NEARLY_FULL = 0.95

const number = (n: number) => new Intl.NumberFormat('en').format(n)
const many = (n: number, one: string) => `${number(n)} ${one}${n === 1 ? '' : 's'}`

type Said = Pick<WayHop, 'state' | 'words'> & Partial<Pick<WayHop, 'name' | 'hint' | 'since' | 'id'>>
const hop = (name: WayHopName, said: Said): WayHop => ({ hop: name, name: '', hint: '', since: null, id: null, ...said })

/** Every hop of a way, from the device on, each with what it is like by itself. */
export function hopsOf(f: WayFacts): WayHop[] {
  const out = [hop('source', ofSources(f)), hop('tag', ofTags(f)), hop('member', ofMembers(f)), hop('publication', ofPublication(f))]
  const { speaking } = f
  if (speaking) out.push(hop('trigger', ofTrigger(f, speaking)), ...ofSteps(speaking), hop('message', ofMessage(speaking)))
  out.push(hop('outbox', ofOutbox(f)))
  const { destination } = f
  if (destination)
    out.push(hop('connection', ofConnection(destination)), hop('destination', ofTaking(f, destination)), hop('witness', ofWitness(f, destination)))
  return out
}

const rank: readonly HopState[] = ['stops', 'part', 'waits', 'unknown']

/** The place of the hop that answers why something does not arrive: the first that lets nothing past, else the first that lets less past than it should. */
export function answerOf(hops: readonly WayHop[]): number | null {
  for (const state of rank) {
    const at = hops.findIndex((h) => h.state === state)
    if (at >= 0) return at
  }
  return null
}

/** For an order in which the worst comes first. */
export function worth({ hops, at }: Pick<Way, 'hops' | 'at'>): number {
  return at === null ? rank.length : rank.indexOf(hops[at]!.state)
}

const isUp = (s: SourceFact) => s.condition?.state === 'running'

function ofSources({ sources }: WayFacts): Said {
  const [first] = sources
  if (!first) return { state: 'fine', words: 'Nothing is read from a device' }
  const down = sources.filter((s) => !isUp(s))
  const named = sources.length === 1 ? { name: first.name, id: first.id } : { name: many(sources.length, 'source') }
  const [worst] = down
  if (!worst) return { ...named, state: 'fine', words: sources.length === 1 ? `connected: ${first.condition!.reason}` : 'all connected' }
  const c = worst.condition
  const words = c ? (c.state === 'off' ? 'switched off' : c.reason) : 'it does not run'
  const hint = c?.state === 'off' ? 'Switch the source on' : (c?.hint ?? 'Look whether the engine runs')
  const more = down.length > 1 ? `, and ${many(down.length - 1, 'more source')}` : ''
  const state = down.length === sources.length ? 'stops' : 'part'
  return {
    state,
    words: `${sources.length > 1 ? `${worst.name}: ` : ''}${words}${more}`,
    hint,
    since: c?.since ?? null,
    name: worst.name,
    id: worst.id,
  }
}

const tagHints: Partial<Record<number, string>> = {
  [Status.stale >>> 16]: 'Look whether the device has power and reaches its broker',
  [Status.nodeUnknown >>> 16]: 'The device no longer has this address: browse it again',
  [Status.nodeInvalid >>> 16]: 'Correct the address of the tag',
  [Status.decoding >>> 16]: 'What came does not fit the data type: look at its raw octets',
  [Status.typeMismatch >>> 16]: 'What came does not fit the data type: look at its raw octets',
  [Status.waitingForInitialData >>> 16]: 'The device has told no value yet: look at its address, and whether the device tells it at all',
}

function ofTags({ tags, sources, now }: WayFacts): Said {
  const [first] = tags
  if (!first) return { state: 'fine', words: 'No tag is read for it' }
  const up = new Set(sources.filter(isUp).map((s) => s.id))
  // Of a source that is away nothing can be good.
  const own = tags.filter((t) => up.has(t.sourceId))
  const one = tags.length === 1 ? { name: first.name, id: first.id } : { name: many(tags.length, 'tag') }
  if (own.length === 0) return { ...one, state: 'unknown', words: 'their source is away: see there' }
  const bad = own.filter((t) => qualityOf(t.status) === 'bad')
  const silent = own.filter((t) => t.status >>> 16 === Status.stale >>> 16)
  const doubtful = own.filter((t) => qualityOf(t.status) === 'uncertain' && !silent.includes(t))
  const wrong = [...bad, ...silent]
  const [worst] = wrong
  if (!worst) {
    const newest = own.reduce((last, t) => Math.max(last, t.seen), 0)
    const age = newest === 0 ? '' : `, the newest value ${ago(now - newest)} old`
    const words = doubtful.length > 0 ? `${many(doubtful.length, 'tag')} uncertain: ${reasonOf(doubtful[0]!.status)}${age}` : `good${age}`
    return { ...one, state: 'fine', words }
  }
  const reason = reasonOf(worst.status)
  const told = `${reason}${worst.note ? `: ${worst.note}` : ''}`
  const named = wrong.length === 1 ? { name: worst.name, id: worst.id } : { name: many(wrong.length, 'tag'), id: null }
  const words =
    tags.length === 1 ? told : `${number(wrong.length)} of ${number(tags.length)} without a good value (${some(wrong.map((t) => t.name))}): ${told}`
  return {
    ...named,
    state: wrong.length === own.length ? 'stops' : 'part',
    words,
    hint: tagHints[worst.status >>> 16] ?? 'Look at the tag: it shows what its device says',
    since: worst.seen > 0 ? worst.seen : null,
  }
}

function ofMembers({ filled, speaking }: WayFacts): Said {
  if (filled !== null && filled.length === 0)
    return {
      state: 'stops',
      words: 'No member of any equipment is filled from it',
      hint: 'Bind it to a member under Equipment, or send it as a tag without equipment',
    }
  const unanswered = speaking?.unanswered ?? []
  if (unanswered.length > 0)
    return {
      state: 'part',
      name: unanswered[0]!,
      words: `no answer though what it is made from is good: ${some(unanswered)}`,
      hint: 'Look at the expression of this member',
    }
  return { state: 'fine', name: filled === null ? '' : some(filled), words: filled === null ? 'all have what fills them' : 'filled from it' }
}

function ofPublication({ publication: p, filled }: WayFacts): Said {
  if (!p)
    return {
      state: 'stops',
      words: filled === null ? 'There is no such publication' : 'No publication that is live sends it',
      hint: 'Choose its equipment in a publication, and go live',
    }
  const named = { name: p.name, id: p.id }
  if (p.off) return { ...named, state: 'stops', words: 'This clause is switched off', hint: 'Switch it on and go live' }
  if (p.state === 'draft') return { ...named, state: 'stops', words: 'It has never gone live', hint: 'Go live' }
  if (p.state === 'paused') return { ...named, state: 'stops', words: 'It is paused', hint: 'Resume it' }
  if (p.broken)
    return { ...named, state: 'stops', words: `It can't run: ${p.broken.failure.message}`, hint: p.broken.failure.hint, since: p.broken.since }
  return { ...named, state: 'fine', words: `live, version ${p.version}` }
}

function ofTrigger({ now, tags }: WayFacts, s: SpeakingFact): Said {
  if (s.ready === 0)
    return {
      state: 'stops',
      words: `waits for the first values of ${s.messages === 1 ? 'its message' : `all ${number(s.messages)} messages`}`,
      hint: 'Look at the tags that have had none',
      since: s.since,
    }
  const spoke = s.last === null ? `has not spoken since it began to run ${ago(now - s.since)} ago` : `spoke ${ago(now - s.last)} ago`
  const first = s.ready < s.messages ? `; ${number(s.messages - s.ready)} of ${number(s.messages)} messages wait for a first value` : ''
  const quiet = quietWords(s, now, tags)
  if (quiet) return { state: 'waits', words: `${quiet}; it ${spoke}${first}`, hint: quietHint[s.trigger.kind] ?? '', since: s.last ?? s.since }
  return first ? { state: 'part', words: `${spoke}${first}`, hint: 'Look at the tags that have had none' } : { state: 'fine', words: spoke }
}

const quietHint: Partial<Record<Trigger['kind'], string>> = {
  change: 'Take a smaller deadband, or let it speak at least every so often',
  when: 'Nothing is wrong unless it should hold: look at the condition and the values that it reads',
  hand: 'Press Send once, or take another trigger',
}

/** Why nothing is to go now; empty: it is to. */
function quietWords(s: SpeakingFact, now: number, tags: readonly TagFact[]): string {
  const { trigger } = s
  const quiet = now - (s.last ?? s.since) > QUIET_MS
  if (trigger.kind === 'hand') return 'It speaks by hand only'
  if (trigger.kind === 'when' && s.holding === 0) return 'Its condition holds for none'
  if (trigger.kind === 'schedule')
    return s.next === null ? 'Its schedule has no next time' : quiet ? `By its schedule it speaks next in ${ago(s.next - now)}` : ''
  if (!quiet || s.news) return ''
  const came = tags.reduce((last, t) => Math.max(last, t.seen), 0) > (s.last ?? s.since)
  if (trigger.kind === 'change') return came ? 'Values come in, and none has moved beyond its deadband' : 'No value has come in'
  if (trigger.kind === 'event')
    return trigger.of === 'joined' ? 'No equipment has joined' : trigger.of === 'record' ? 'No record has changed' : 'No value has come in'
  return ''
}

function ofSteps({ steps, stepTrouble }: SpeakingFact): WayHop[] {
  if (stepTrouble)
    return [
      hop('step', {
        state: steps.every((s) => s.passed === 0) ? 'stops' : 'part',
        words: `${many(stepTrouble.count, 'message')} did not get through: ${stepTrouble.words}`,
        hint: 'Correct the step and go live again',
      }),
    ]
  const closed = steps.find((s) => s.held > 0 && s.passed === 0)
  if (closed)
    return [
      hop('step', {
        state: 'stops',
        name: closed.name,
        words: `step ${closed.step + 1} has held back all ${many(closed.held, 'message')} that came to it`,
        hint: 'Look at the step with the values of now: Steps shows who passes',
      }),
    ]
  if (steps.length === 0) return []
  const held = steps.reduce((n, s) => n + s.held, 0)
  return [hop('step', { state: 'fine', words: held === 0 ? 'all pass' : `${many(held, 'message')} held back as was meant` })]
}

function ofMessage({ failing, messages }: SpeakingFact): Said {
  if (failing === null) return { state: 'fine', words: 'made as its shape and address say' }
  const all = failing.messages >= messages
  const words = `${all ? '' : `${number(failing.messages)} of ${number(messages)} `}can't be made: ${failing.words}`
  return { state: all ? 'stops' : 'part', words, hint: 'Correct its shape or address and go live again' }
}

function ofOutbox({ store, destination: d, recent }: WayFacts): Said {
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

function ofConnection(d: DestinationFact): Said {
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

function ofTaking({ recent }: WayFacts, d: DestinationFact): Said {
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

function ofWitness({ recent, now }: WayFacts, d: DestinationFact): Said {
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

/** A span in its largest unit. */
function ago(ms: number): string {
  const s = Math.max(0, ms) / 1000
  if (s < 10) return `${s.toFixed(1)} s`
  if (s < 120) return `${Math.round(s)} s`
  if (s < 7200) return `${Math.round(s / 60)} min`
  return s < 172_800 ? `${Math.round(s / 3600)} h` : `${Math.round(s / 86_400)} days`
}

const hopWords: Record<WayHopName, string> = {
  source: 'the source',
  tag: 'the tag',
  member: 'the member',
  publication: 'the publication',
  trigger: 'the trigger',
  step: 'the steps',
  message: 'the message',
  outbox: 'the outbox',
  connection: 'the connection',
  destination: 'the destination',
  witness: 'the far end',
}

/** The answer in one sentence: at which hop it stops, and why. */
export function waySentence({ hops, at }: Pick<Way, 'hops' | 'at'>): string {
  const h = at === null ? null : hops[at]!
  if (!h) return 'Nothing is in the way: what is made arrives'
  const where = `${hopWords[h.hop]}${h.name ? ` ${h.name}` : ''}`
  switch (h.state) {
    case 'stops':
      return `It stops at ${where}: ${h.words}`
    case 'part':
      return `A part of it stops at ${where}: ${h.words}`
    case 'waits':
      return `Nothing is to go now. ${h.words}`
    default:
      return `Nobody can say at ${where}: ${h.words}`
  }
}
