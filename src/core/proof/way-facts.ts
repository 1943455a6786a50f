import type { Failure } from '~/contract/failure'
import type { Condition } from '~/contract/live'
import type { Trigger } from '~/contract/trigger'
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
  state: 'draft' | 'live' | 'paused'
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
