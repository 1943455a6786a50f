/** A topic as far as families look at it. */
export interface FamilyTopic {
  topic: string
  /** What kind of payload it carries; only like kinds are one family. */
  kind: string
  /** Names of what its payload holds. */
  leaves: readonly string[]
}

/** One level of a family's pattern: the same in all its topics, or one of several names. */
export type FamilyLevel = { name: string } | { names: readonly string[] }

/** Topics that differ only in levels that vary. */
export interface Family<T extends FamilyTopic> {
  /** The pattern as text, with `+` for what varies, and the kind: unique among the families of one call. */
  id: string
  levels: readonly FamilyLevel[]
  topics: readonly T[]
  /** Names of what they carry, in the order in which they were met. */
  leaves: readonly string[]
}

/** Payloads whose names overlap by less than this share are not alike. */
const ALIKE = 0.5
/** Names of a level overlap by at least this share where branches are alike that have nothing else in common. */
const OVERLAP = 0.34

/** A topic of more levels is a family by itself. */
const LEVELS_MOST = 40
/** A branch is held against at most so many others that may be like it: with more, families may stay apart that are one. */
const HELD_AGAINST = 64

interface Branch<T> {
  children: Map<string, Branch<T>>
  topics: T[]
}
/** Names of one level, and the same without their numbers. */
class Names {
  readonly names = new Set<string>()
  readonly stems = new Set<string>()

  constructor(names: Iterable<string>) {
    this.add(names)
  }

  add(names: Iterable<string>): void {
    for (const name of names) {
      this.names.add(name)
      this.stems.add(stem(name))
    }
  }
}
/** A pattern in the making. */
interface Pattern<T> {
  levels: Names[]
  kind: string
  leaves: Set<string>
  topics: T[]
}

const order = (a: string, b: string) => a.localeCompare(b, 'en', { numeric: true })
/** A name without its numbers. */
const stem = (name: string) => name.replace(/\d+/g, '0')

/**
 * Finds the families among topics: branches that carry the same kinds of payload under like names become one, from the ends of
 * the topics up. `probes/1`, `probes/2` with the same JSON are `probes/+`; `cells/a/speed`, `cells/b/speed`, `cells/b/load` are
 * `cells/+/+`. Every topic is in exactly one family. Order: by pattern.
 */
export function topicFamilies<T extends FamilyTopic>(topics: Iterable<T>): Family<T>[] {
  const root: Branch<T> = { children: new Map(), topics: [] }
  const long: Pattern<T>[] = []
  for (const topic of topics) {
    const levels = topic.topic.split('/')
    if (levels.length > LEVELS_MOST) {
      long.push(single(levels, topic))
      continue
    }
    let at = root
    for (const level of levels) {
      let next = at.children.get(level)
      if (!next) at.children.set(level, (next = { children: new Map(), topics: [] }))
      at = next
    }
    at.topics.push(topic)
  }
  return [...patternsUnder(root), ...long].map(familyOf).sort((a, b) => order(a.id, b.id))
}

const single = <T extends FamilyTopic>(levels: readonly string[], topic: T): Pattern<T> => ({
  levels: levels.map((level) => new Names([level])),
  kind: topic.kind,
  leaves: new Set(topic.leaves),
  topics: [topic],
})

function familyOf<T extends FamilyTopic>(pattern: Pattern<T>): Family<T> {
  const levels = pattern.levels.map(({ names }) => {
    const sorted = [...names].sort(order)
    return sorted.length === 1 ? { name: sorted[0]! } : { names: sorted }
  })
  const topics = pattern.topics.sort((a, b) => order(a.topic, b.topic))
  // Two of one pattern differ in their topics.
  const id = `${levels.map((level) => ('name' in level ? level.name : '+')).join('/')} ${topics[0]!.topic}`
  return { id, levels, topics, leaves: [...pattern.leaves] }
}

function patternsUnder<T extends FamilyTopic>(branch: Branch<T>): Pattern<T>[] {
  const found: Pattern<T>[] = []
  for (const [name, child] of branch.children) {
    for (const topic of child.topics) found.push(single([name], topic))
    for (const under of patternsUnder(child)) found.push({ ...under, levels: [new Names([name]), ...under.levels] })
  }
  return merged(found)
}

/** Patterns whose first level is one name each: those that are alike become one whose first level varies. */
function merged<T extends FamilyTopic>(patterns: readonly Pattern<T>[]): Pattern<T>[] {
  const all: Pattern<T>[] = []
  const candidates = new Map<string, Pattern<T>[]>()
  const same = new Map<string, Pattern<T>>()
  for (const pattern of patterns) {
    const group = `${pattern.kind} ${pattern.levels.length}`
    const exact = `${group} ${[...pattern.leaves].sort().join('\n')}`
    // What is alike has a name or its stem in common where the next level is.
    const keys = [...(pattern.levels[1]?.stems ?? [''])].slice(0, HELD_AGAINST).map((next) => `${group} ${next}`)
    const first = same.get(`${exact} ${keys[0]}`)
    const like =
      first && alike(first, pattern)
        ? first
        : keys
            .flatMap((key) => candidates.get(key)?.slice(-HELD_AGAINST) ?? [])
            .slice(0, HELD_AGAINST)
            .find((other) => alike(other, pattern))
    if (like) join(like, pattern)
    else all.push(pattern)
    const at = like ?? pattern
    for (const key of keys) {
      const list = candidates.get(key)
      if (!list) candidates.set(key, [at])
      else if (!list.includes(at, -HELD_AGAINST)) list.push(at)
    }
    same.set(`${exact} ${keys[0]}`, at)
  }
  return all
}

function join<T>(into: Pattern<T>, from: Pattern<T>): void {
  from.levels.forEach(({ names }, i) => {
    into.levels[i]!.add(names)
  })
  for (const leaf of from.leaves) into.leaves.add(leaf)
  for (const topic of from.topics) into.topics.push(topic)
}

function alike<T>(a: Pattern<T>, b: Pattern<T>): boolean {
  if (share(a.leaves, b.leaves) < ALIKE) return false
  const [firstA, firstB] = [a.levels[0]!, b.levels[0]!]
  // What follows must have much in common, level by level; where the first names are numbers of one thing, something.
  const enough = share(firstA.stems, firstB.stems) > 0 ? Number.EPSILON : OVERLAP
  return a.levels.every((level, i) => {
    const other = b.levels[i]!
    if (i === 0 || share(level.names, other.names) >= enough) return true
    return level.names.size > 1 && other.names.size > 1 && share(level.stems, other.stems) > 0
  })
}

/** Which share of the smaller set is in the other; two empty ones have all in common. */
function share(a: ReadonlySet<string>, b: ReadonlySet<string>): number {
  const [few, many] = a.size < b.size ? [a, b] : [b, a]
  if (few.size === 0) return many.size === 0 ? 1 : 0
  let both = 0
  for (const name of few) if (many.has(name)) both++
  return both / few.size
}
