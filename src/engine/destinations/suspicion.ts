import type { Envelope } from '~/core/delivery/envelope'
import type { Item } from '../outbox/segment-state'

/** A message on which the link was lost so often goes aside. */
const STRIKES = 3
/** What a lost link weighs; where another link to the same place was lost with it, the way there is the likelier cause. */
const WEIGHT = { alone: 3, together: 1 }
/** So many messages of one topic have gone aside one after the other: the next ones follow without being tried. */
const BARRED_AFTER = 3
/** After so long one of a barred topic is tried again, ms. */
const TRY_AGAIN_MS = 60_000
/** So many topics are remembered; with values in them there may be new ones for ever. */
const PLACES = 10_000
/** Links lost one after the other with messages of one topic under way, none of them answered: its next one is tried alone. */
const LOSSES = 3
/** So many topics that a lost link makes suspect: what can be acknowledged is read in order, what cannot be may lie anywhere. */
const BLAMED = { acknowledged: 2, others: 50 }
/** Of so many topics of one publication messages went aside, and none of it was ever taken: for the others one lost link is enough. */
const STREAM_SUSPECT_AFTER = 3
/** Connections that ended without an answer to anything, one after the other, before each message is tried alone. */
const BARREN = 2
/** So long a link is to hold with nothing sent on it before a message is tried alone, ms: anything at first, and one whose topic is suspected. */
const HOLD_MS = { careful: 750, suspects: 100 }
/** However often it was lost, ms. */
const HOLD_MOST_MS = 12_000

/** Links lost on a message take so much alike to be lost: up to so many times the shortest, and so many ms. */
const ALIKE = { times: 2, ms: 150 }

/** Links that were lost on one message alone: what they weigh together, and how long after it went out. */
interface Strikes {
  weight: number
  least: number
  most: number
}

/** What is known of the messages of one publication to one topic. */
interface Place {
  /** So many went aside. */
  aside: number
  triedAt: number
  /** So many links were lost with one of them under way since one was answered. */
  losses: number
}

/** What is known of the messages of one publication that go one way, of which some went aside. */
interface Stream {
  topics: number
  takes: boolean
}

/**
 * Finds the one message that a destination answers by hanging up. Links are lost for many reasons: only a link that was seen
 * to hold before, and was lost on a message that was alone on it, three times, makes that message the cause. It must have
 * held twice as long with nothing sent as it then took to be lost, and longer from one time to the next: a link that is cut
 * every few seconds, at a destination that is slow to answer, is lost with a message on it each time and for none of them. And the
 * three times must be alike.
 */
export class Suspicion {
  private barren = 0
  /** The last place in the outbox that went out on a connection without an answer. */
  private through: number | null = null
  /** So many may be under way after a silence. */
  private eased = 1
  /** How long a link must hold idle now, ms, where that is more than at first. */
  private hold = 0
  /** By place in the outbox; what is only sent does not go out again, so that it is its topic that counts. */
  private readonly strikes = new Map<number | string, Strikes>()
  private readonly places = new Map<string, Place>()
  private readonly streams = new Map<string, Stream>()

  /**
   * Each message is to be tried alone, on a link that holds: until all were that went out on the connections without an
   * answer. The first of them need not be the cause: a link that is reset takes answers along.
   */
  get careful(): boolean {
    return this.through !== null && !this.silent
  }

  /**
   * How many may be under way. Who was too slow for many gets one, and with each answer one more, so that twice as many go from one
   * round to the next: nobody hung up on any of them, and alone each would take its time.
   */
  get most(): number {
    return this.through === null ? Number.POSITIVE_INFINITY : this.silent ? this.eased : 1
  }

  /** Not all went out again that had no answer on two connections. */
  get wary(): boolean {
    return this.through !== null
  }

  /** All of those went out again. */
  passed(): void {
    this.barren = 0
    this.through = null
  }

  /** Whether the last connection without an answer was given up since none came in time; else it was lost. */
  silent = false

  /**
   * A connection ended: how many messages had gone out on it, how many were answered, the last place in the outbox that ever
   * went out, whether it was given up for its silence.
   */
  ended(sent: number, answered: number, through: number, silent = false): void {
    if (answered > 0) this.barren = 0
    else if (sent > 0) {
      this.barren++
      this.silent = silent
    }
    if (this.barren < BARREN) return
    this.through = through
    this.eased = 1
  }

  /** How long nothing is to be sent on a link before a message is tried alone, ms. */
  get holdMs(): number {
    return Math.max(this.hold, this.careful ? HOLD_MS.careful : HOLD_MS.suspects)
  }

  /** The link was lost while nothing was sent on it: it does not hold, whatever is sent. */
  lostIdle(): void {
    this.passed()
    this.hold = 0
    this.strikes.clear()
  }

  /** Whether the message was the cause, where the link held for so long with nothing sent, and was lost so long after it, ms. */
  tells(heldMs: number, tookMs: number): boolean {
    if (heldMs >= tookMs * 2) return true
    this.hold = Math.max(this.hold, tookMs * 2)
    return false
  }

  /** `manner`: how a message goes, where that may be what the other side dislikes. */
  constructor(private readonly manner: (e: Envelope) => string) {}

  private placeOf(item: Item): string {
    return `${this.streamOf(item)} ${item.envelope.topic}`
  }

  private streamOf({ envelope: e }: Item): string {
    return `${e.delivery} ${this.manner(e)}`
  }

  private strikeOf(item: Item): number | string {
    return item.envelope.assurance === 'sent' ? this.placeOf(item) : item.segment.ordinal + item.index
  }

  private place(of: string): Place {
    let place = this.places.get(of)
    if (place) return place
    if (this.places.size >= PLACES) for (const oldest of this.places.keys()) if (this.places.delete(oldest)) break
    this.places.set(of, (place = { aside: 0, triedAt: 0, losses: 0 }))
    return place
  }

  /** The link was lost with these under way, in the order in which they went out. */
  lostWith(items: Iterable<Item>): void {
    const left = { ...BLAMED }
    const blamed = new Set<string>()
    for (const item of items) {
      const kind = item.envelope.assurance === 'sent' ? 'others' : 'acknowledged'
      const of = this.placeOf(item)
      if (left[kind] === 0 || blamed.has(of)) continue
      left[kind]--
      blamed.add(of)
      this.place(of).losses++
    }
  }

  /**
   * The link was lost on this message alone, so long after it went out; true: it is to go aside. `together`: the witness's link
   * was lost at that moment too. Either the way there was cut, or the other side falls over it, which three times as many show.
   */
  strike(item: Item, now: number, tookMs: number, together = false): boolean {
    const of = this.strikeOf(item)
    const place = this.place(this.placeOf(item))
    const { weight } = this.struck(of, tookMs, together ? WEIGHT.together : WEIGHT.alone)
    if (weight < WEIGHT.alone * (place.aside > 0 || this.untaken(item) ? 1 : STRIKES)) {
      this.hold = Math.min(this.holdMs * 2, HOLD_MOST_MS)
      return false
    }
    this.strikes.delete(of)
    this.hold = 0
    if (this.through !== null && item.segment.ordinal + item.index >= this.through) this.passed()
    this.convict(item, place, now)
    return true
  }

  /** Who hangs up on a message does so in much the same time: what takes long once and is quick the next time has another cause. */
  private struck(of: number | string, tookMs: number, weight: number): Strikes {
    const before = this.strikes.get(of)
    const [least, most] = [Math.min(before?.least ?? tookMs, tookMs), Math.max(before?.most ?? tookMs, tookMs)]
    const alike = most <= ALIKE.times * least + ALIKE.ms
    const next = before && alike ? { weight: before.weight + weight, least, most } : { weight, least: tookMs, most: tookMs }
    this.strikes.set(of, next)
    return next
  }

  private convict(item: Item, place: Place, now: number): void {
    const of = this.streamOf(item)
    const stream = this.streams.get(of) ?? { topics: 0, takes: false }
    this.streams.set(of, stream)
    if (place.aside === 0) stream.topics++
    // Of what is only sent three messages were lost by now; and a publication of which nothing is taken needs no more proof.
    place.aside = item.envelope.assurance === 'sent' || this.untaken(item) ? BARRED_AFTER : place.aside + 1
    place.triedAt = now
  }

  /** Messages of its publication went aside on several topics, and none was taken since the first did. */
  private untaken(item: Item): boolean {
    const stream = this.streams.size > 0 ? this.streams.get(this.streamOf(item)) : undefined
    return stream !== undefined && !stream.takes && stream.topics >= STREAM_SUSPECT_AFTER
  }

  /** Whether messages of its topic go aside untried for now. */
  barred(item: Item, now: number): boolean {
    if (this.places.size === 0) return false
    const place = this.places.get(this.placeOf(item))
    return place !== undefined && place.aside >= BARRED_AFTER && now - place.triedAt < TRY_AGAIN_MS
  }

  /** Whether others of its topic went aside, or the link was lost with them again and again: it is tried alone at once. */
  suspects(item: Item): boolean {
    if (this.places.size === 0) return false
    const place = this.places.get(this.placeOf(item))
    return (place !== undefined && (place.aside > 0 || place.losses >= LOSSES)) || this.untaken(item)
  }

  /** The destination said something to it. */
  answered(item: Item): void {
    this.barren = 0
    this.hold = 0
    this.eased++
    if (this.through !== null && item.segment.ordinal + item.index >= this.through) this.through = null
    if (this.strikes.size > 0) this.strikes.delete(this.strikeOf(item))
    if (this.places.size > 0) this.places.delete(this.placeOf(item))
    const stream = this.streams.size > 0 ? this.streams.get(this.streamOf(item)) : undefined
    if (stream) stream.takes = true
  }
}
