import type { HeardTopic } from '~/contract/sources/mqtt'
import { type Family, type FamilyLevel, topicFamilies } from '~/core/source/topic-families'
import { leavesOfTopic, type TopicLeaf } from './topic-tree'

/** Which kind of payload a family carries, as it is listed at the left. */
export const carriedKinds = ['json', 'bare', 'sparkplug', 'unreadable', 'empty'] as const
export type CarriedKind = (typeof carriedKinds)[number]
export const carriedWords: Record<CarriedKind, string> = {
  json: 'JSON',
  bare: 'Bare values',
  sparkplug: 'Sparkplug B',
  unreadable: 'Unreadable',
  empty: 'Empty',
}

export const carriedKind = ({ format }: Pick<HeardTopic, 'format'>): CarriedKind =>
  format === 'number' || format === 'boolean' || format === 'text' ? 'bare' : format === 'bytes' ? 'unreadable' : format

/** A topic with what can become tags of it. */
export interface FamilyMember {
  topic: string
  kind: string
  leaves: readonly string[]
  heard: HeardTopic
  byName: ReadonlyMap<string, TopicLeaf>
}

export interface HeardFamily extends Family<FamilyMember> {
  carries: CarriedKind
  /** That of its topics which was heard first: the same while more of it is heard and its pattern grows. */
  first: string
  /** Messages a second of all its topics. */
  rate: number
  /** Octets of the largest last payload. */
  bytes: number
}

/** How a leaf is called within its topic; a bare payload has no name. */
export const leafName = ({ address }: Pick<TopicLeaf, 'address'>) => {
  const hash = address.indexOf('#')
  return hash < 0 ? '' : address.slice(hash + 1).replace(/^\//, '')
}

/** The heard topics, in the order in which they were first heard, as families; with words only topics that hold them. */
export function heardFamilies(topics: Iterable<HeardTopic>, words = ''): HeardFamily[] {
  const members: FamilyMember[] = []
  for (const heard of topics) {
    const byName = new Map(leavesOfTopic(heard).map((leaf) => [leafName(leaf), leaf]))
    if (words && !`${heard.topic} ${[...byName.keys()].join(' ')}`.toLowerCase().includes(words)) continue
    // Births and data of one node carry the same names but are no family.
    const kind = heard.format === 'sparkplug' ? `sparkplug ${heard.topic.split('/')[2] ?? ''}` : carriedKind(heard)
    members.push({ topic: heard.topic, kind, leaves: [...byName.keys()], heard, byName })
  }
  const order = new Map(members.map(({ topic }, i) => [topic, i]))
  return topicFamilies(members).map((family) => ({
    ...family,
    first: family.topics.reduce((first, t) => (order.get(t.topic)! < order.get(first.topic)! ? t : first)).topic,
    carries: carriedKind(family.topics[0]!.heard),
    rate: family.topics.reduce((sum, t) => sum + t.heard.rate, 0),
    bytes: family.topics.reduce((most, t) => Math.max(most, t.heard.bytes), 0),
  }))
}

/** The family of a topic: by its topics it stays known while its pattern grows; null: there is none. */
export const familyOfTopic = (families: readonly HeardFamily[], topic: string | null): HeardFamily | null =>
  (topic !== null && families.find((family) => family.topics.some((t) => t.topic === topic))) || null

/** Whether a leaf is the time or the quality of what stands beside it, by the source's settings. */
export function roleOf(name: string, settings: { timeField: string; qualityField: string }): 'time' | 'quality' | null {
  const is = (field: string) => field !== '' && (field.startsWith('/') ? field.slice(1) === name : name.split('/').at(-1) === field)
  return is(settings.timeField) ? 'time' : is(settings.qualityField) ? 'quality' : null
}

const SHORT = 30

/** What stands for a level: its name, the few names that it takes, or the first and the last. */
export function levelText(level: FamilyLevel): string {
  if ('name' in level) return level.name === '' ? '(empty)' : level.name
  const all = level.names.map((name) => name || '(empty)')
  const text = all.join('  ')
  if (text.length <= SHORT) return text
  const stems = new Set(all.map((name) => name.replace(/\d+/g, '0')))
  return stems.size === 1 ? `${all[0]} to ${all.at(-1)}` : `${all.length} names`
}
