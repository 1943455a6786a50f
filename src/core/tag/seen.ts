import type { Tag } from '~/contract/tag'
import type { Scalar } from '../value/deadband'
import { qualityText } from '../value/quality'
import type { StateIndex } from './view'

/** Columns of what was read, as they stand in copied text: value, quality with its reason, device time in UTC. */
export const seenKeys = ['value', 'quality', 'time'] as const
export type SeenKey = (typeof seenKeys)[number]
export const isSeenKey = (key: string): key is SeenKey => (seenKeys as readonly string[]).includes(key)

/** What a tag showed when it was copied. */
export interface Seen {
  value: Scalar
  status: number
  /** Epoch ms; 0: never. */
  time: number
}

/** The text of one such cell; empty where nothing was read yet. */
export function seenText(seen: Seen | undefined, key: SeenKey): string {
  if (!seen || (seen.time === 0 && seen.value === null)) return ''
  if (key === 'quality') return qualityText(seen.status)
  if (key === 'time') return seen.time === 0 ? '' : new Date(seen.time).toISOString()
  return seen.value === null ? '' : String(seen.value)
}

/** From the states of all tags: long texts are cut there, and whole numbers beyond 2^53 rounded. */
export function seenIn(index: StateIndex, tag: Pick<Tag, 'handle' | 'dataType'>): Seen | undefined {
  const row = index.of(tag.handle)
  if (row < 0) return undefined
  const { states } = index
  const number = states.value[row]!
  const text = states.texts.get(tag.handle)
  const value = text ?? (Number.isNaN(number) ? null : tag.dataType === 'boolean' ? number === 1 : number)
  return { value, status: states.status[row]!, time: states.time[row]! }
}
