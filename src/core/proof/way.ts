import type { Trigger } from '~/contract/trigger'
import type { HopState, Way, WayHop, WayHopName } from '~/contract/way'
import { some } from '../address/some'
import { tagHint } from '../tag/hints'
import { qualityOf, reasonOf, Status } from '../value/quality'
import type { SourceFact, SpeakingFact, TagFact, WayFacts } from './way-facts'
import { ofConnection, ofOutbox, ofTaking, ofWitness } from './way-out'
import { ago, many, number, type Said } from './way-text'

/** Values that came more than this after the last message are news that were not spoken of, ms. */
const QUIET_MS = 15_000

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
    hint: tagHint(worst.status) || 'Look at the tag: it shows what its device says',
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

function ofPublication({ publication: p, filled, speaking }: WayFacts): Said {
  if (!p)
    return {
      state: 'stops',
      words: filled === null ? 'No publication goes there' : 'No publication that is live sends it',
      hint: 'Choose its equipment in a publication, and go live',
    }
  const named = { name: p.name, id: p.id }
  if (p.off) return { ...named, state: 'stops', words: 'This clause is switched off', hint: 'Switch it on and go live' }
  if (p.state === 'draft') return { ...named, state: 'stops', words: 'It has never gone live', hint: 'Go live' }
  if (p.state === 'paused') return { ...named, state: 'stops', words: 'It is paused', hint: 'Resume it' }
  if (p.broken)
    return { ...named, state: 'stops', words: `It can't run: ${p.broken.failure.message}`, hint: p.broken.failure.hint, since: p.broken.since }
  if (!speaking)
    return {
      ...named,
      state: 'stops',
      words: `Version ${p.version} is live, and does not run yet`,
      hint: 'The engine takes it up within moments. If it does not, the first page says what keeps it',
    }
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
  if (!quiet) return ''
  const came = tags.reduce((last, t) => Math.max(last, t.seen), 0) > (s.last ?? s.since)
  if (trigger.kind === 'change' && !s.news) return came ? 'Values come in, and none has moved beyond its deadband' : 'No value has come in'
  // That values move is no news for who speaks of something else.
  if (trigger.kind === 'event' && trigger.of === 'value') return came ? '' : 'No value has come in'
  if (trigger.kind === 'event') return trigger.of === 'joined' ? 'No equipment has joined' : 'No record has changed'
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
