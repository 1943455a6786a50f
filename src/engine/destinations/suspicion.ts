import type { Item } from '../outbox/segment-state'

/** A message on which the link was lost so often goes aside. */
const STRIKES = 3
/** So many messages of one topic have gone aside one after the other: the next ones follow without being tried. */
const BARRED_AFTER = 3
/** After so long one of a barred topic is tried again, ms. */
const TRY_AGAIN_MS = 60_000
/** So many topics are remembered; with values in them there may be new ones for ever. */
const PLACES = 10_000
/** Connections that ended without an answer to anything, one after the other, before each message is tried alone. */
const BARREN = 2
/** So long a link is to hold with nothing sent on it before a message is tried alone, ms: anything at first, and one whose topic is suspected. */
const HOLD_MS = { careful: 1500, suspects: 100 }

interface Place {
  aside: number
  triedAt: number
}

/**
 * Finds the one message that a destination answers by hanging up. Links are lost for many reasons: only a link that was seen
 * to hold before, and was lost on a message that was alone on it, three times, makes that message the cause. It must have
 * held twice as long with nothing sent as it then took to be lost, and longer from one time to the next: a link that is cut
 * every few seconds, at a destination that is slow to answer, is lost with a message on it each time and for none of them.
 */
export class Suspicion {
  private barren = 0
  /** How long a link must hold idle now, ms, where that is more than at first. */
  private hold = 0
  private readonly strikes = new Map<number, number>()
  private readonly places = new Map<string, Place>()

  /** Each message is to be tried alone, on a link that holds. */
  get careful(): boolean {
    return this.barren >= BARREN
  }

  /** A connection ended: how many messages had gone out on it, and how many were answered. */
  ended(sent: number, answered: number): void {
    if (answered > 0) this.barren = 0
    else if (sent > 0) this.barren++
  }

  /** How long nothing is to be sent on a link before a message is tried alone, ms. */
  get holdMs(): number {
    return Math.max(this.hold, this.careful ? HOLD_MS.careful : HOLD_MS.suspects)
  }

  /** The link was lost while nothing was sent on it: it does not hold, whatever is sent. */
  lostIdle(): void {
    this.barren = 0
    this.hold = 0
    this.strikes.clear()
  }

  /** Whether the message was the cause, where the link held for so long with nothing sent, and was lost so long after it, ms. */
  tells(heldMs: number, tookMs: number): boolean {
    if (heldMs >= tookMs * 2) return true
    this.hold = Math.max(this.hold, tookMs * 2)
    return false
  }

  private placeOf({ envelope: e }: Item): string {
    return `${e.delivery} ${e.qos} ${e.retain} ${e.topic}`
  }

  /** The link was lost on this message alone; true: it is to go aside. */
  strike(item: Item, now: number): boolean {
    const ordinal = item.segment.ordinal + item.index
    const place = this.places.get(this.placeOf(item))
    const n = (this.strikes.get(ordinal) ?? 0) + 1
    this.strikes.set(ordinal, n)
    if (n < (place && place.aside > 0 ? 1 : STRIKES)) {
      this.hold = this.holdMs * 2
      return false
    }
    this.strikes.delete(ordinal)
    this.hold = 0
    if (!place && this.places.size >= PLACES) for (const oldest of this.places.keys()) if (this.places.delete(oldest)) break
    this.places.set(this.placeOf(item), { aside: (place?.aside ?? 0) + 1, triedAt: now })
    return true
  }

  /** Whether messages of its topic go aside untried for now. */
  barred(item: Item, now: number): boolean {
    if (this.places.size === 0) return false
    const place = this.places.get(this.placeOf(item))
    return place !== undefined && place.aside >= BARRED_AFTER && now - place.triedAt < TRY_AGAIN_MS
  }

  /** Whether others of its topic went aside: it is tried alone at once. */
  suspects(item: Item): boolean {
    return this.places.size > 0 && (this.places.get(this.placeOf(item))?.aside ?? 0) > 0
  }

  /** The destination said something to it. */
  answered(item: Item): void {
    this.barren = 0
    this.hold = 0
    if (this.strikes.size > 0) this.strikes.delete(item.segment.ordinal + item.index)
    if (this.places.size > 0) this.places.delete(this.placeOf(item))
  }
}
