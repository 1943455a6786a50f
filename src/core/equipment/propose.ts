import type { Equipment } from '~/contract/equipment'
import type { Tag } from '~/contract/tag'
import { conversion } from '../value/convert'
import { ownLeaves, plainName } from './naming'
import { type Leaf, type Resolver, typeFits } from './resolve'

/** A tag that may fill a member, with its score of 100 and what speaks for and against it. */
export interface Proposal {
  equipmentId: string
  path: string
  label: string
  tagId: string
  score: number
  reasons: string[]
}

const words = (name: string) =>
  plainName(name)
    .split(/[\s/]+/)
    .filter(Boolean)
const isNumber = (w: string) => /^\d+$/.test(w)
/** Numbers are compared as numbers: zone 07 is zone 7. */
const norm = (w: string) => (isNumber(w) ? String(Number(w)) : w)
/** `zone7` is `zone` and `7`. */
function tokens(name: string): readonly string[] {
  let known = cut.get(name)
  if (!known) {
    if (cut.size > 50_000) cut.clear()
    known = words(name)
      .flatMap((w) => w.match(/\d+|\D+/g) ?? [])
      .map(norm)
    cut.set(name, known)
  }
  return known
}
/** Labels, keys and names of equipment are asked for again and again. */
const cut = new Map<string, readonly string[]>()

/** How alike two words are, 0 to 1: the same, one the beginning of the other (`temp`, `temperature`), or a letter apart. */
function alike(a: string, b: string): number {
  if (a === b) return 1
  if (isNumber(a) || isNumber(b)) return 0
  const [short, long] = a.length < b.length ? [a, b] : [b, a]
  if (short.length >= 2 && long.startsWith(short)) return short.length >= 3 ? 0.8 : 0.5
  if (short.length >= 5 && long.length - short.length <= 1 && oneApart(short, long)) return 0.7
  // Letters in order, as in `tmp` for `temperature`.
  if (short.length >= 3 && short[0] === long[0]) {
    let at = 0
    for (const c of long) if (c === short[at]) at++
    if (at === short.length) return 0.5
  }
  return 0
}

function oneApart(a: string, b: string): boolean {
  let i = 0
  while (i < a.length && a[i] === b[i]) i++
  return a.slice(a.length === b.length ? i + 1 : i) === b.slice(i + 1)
}

/** How much of the wanted words the given ones say, and how little else they say: 0 to 1. */
function said(wanted: readonly string[], given: readonly string[]): number {
  if (wanted.length === 0 || given.length === 0) return 0
  const best = wanted.map((w) => Math.max(...given.map((g) => alike(w, g))))
  const covered = best.reduce((s, x) => s + x, 0) / wanted.length
  const extra = given.filter((g) => wanted.every((w) => alike(w, g) === 0)).length / given.length
  return covered * (1 - 0.4 * extra)
}

interface Entry {
  tag: Tag
  folder: readonly string[]
  last: readonly string[]
  /** The last part as it stands. */
  lastText: string
}

/** Tags by the words of their names. */
export class ProposalIndex {
  private readonly entries: Entry[]
  private readonly byWord = new Map<string, number[]>()

  constructor(tags: readonly Tag[]) {
    this.entries = tags.map((tag) => {
      const parts = tag.name.split('/')
      const lastText = parts.at(-1)!
      return { tag, folder: tokens(parts.slice(0, -1).join('/')), last: tokens(lastText), lastText }
    })
    this.entries.forEach((e, i) => {
      for (const w of new Set([...e.folder, ...e.last])) {
        const list = this.byWord.get(w)
        if (list) list.push(i)
        else this.byWord.set(w, [i])
      }
    })
  }

  /** Tags that may belong to an equipment: all numbers of its name, and a word of it when there are too many otherwise. */
  of(name: string): Entry[] {
    const all = tokens(name)
    const numbers = all.filter(isNumber)
    const lists = numbers.map((n) => this.byWord.get(n) ?? [])
    const named = all.filter((w) => !isNumber(w)).map((w) => this.byWord.get(w) ?? [])
    const pool = lists.length > 0 ? intersect(lists) : [...new Set(named.flat())]
    const withWord = pool.length > 400 || numbers.length > 0 ? pool.filter((i) => named.length === 0 || named.some((l) => has(l, i))) : pool
    return (withWord.length > 0 ? withWord : pool).slice(0, 2000).map((i) => this.entries[i]!)
  }
}

const intersect = (lists: number[][]) => {
  const [first, ...rest] = [...lists].sort((a, b) => a.length - b.length)
  return first!.filter((i) => rest.every((l) => has(l, i)))
}
/** Lists of places are sorted as they were made. */
function has(list: readonly number[], i: number): boolean {
  let low = 0
  let high = list.length
  while (low < high) {
    const mid = (low + high) >>> 1
    if (list[mid]! < i) low = mid + 1
    else high = mid
  }
  return list[low] === i
}

/** How well the name of a tag's folder, or else all of it, says the equipment's: 0 to 1. */
function placeOf(name: readonly string[], e: Entry): number {
  const folder = said(name, e.folder)
  // What the folder does not say, the last part may: `temperature zone 7`.
  return folder === 1 ? 1 : Math.max(folder, 0.9 * said(name, e.last.concat(e.folder)))
}

/** How well a tag's last part says the member, by its label or its name in payloads: 0 to 1. */
function memberOf(leaf: Leaf, e: Entry, known: Map<string, number>): number {
  const m = leaf.member
  const label = leaf.keys.length > 1 ? leaf.label : m.label
  const key = `${label}\n${m.key}\n${e.lastText}`
  let is = known.get(key)
  if (is === undefined) known.set(key, (is = Math.max(said(tokens(label), e.last), said(tokens(m.key), e.last))))
  return is
}

const percent = (x: number) => `${Math.round(100 * x)} %`

/** Scores a tag for a member: name 75, unit 15, type 10, range 5 at most; what does not fit takes away. At most 100. */
function score(leaf: Leaf, tag: Tag, member: number, place: number): { score: number; reasons: string[] } {
  const m = leaf.member
  const reasons = [`member's name ${percent(member)}`, `equipment's name ${percent(place)}`]
  let total = 45 * member + 30 * place
  if (m.unit !== '' || tag.unit !== '') {
    if (m.unit === tag.unit) {
      total += 15
      reasons.push(`same unit ${m.unit}`)
    } else if (tag.unit === '' || m.unit === '') {
      reasons.push(tag.unit === '' ? 'the tag has no unit' : `the tag is in ${tag.unit}, the member has no unit`)
      if (m.unit === '') total -= 8
    } else if (conversion(tag.unit, m.unit)) {
      total += 12
      reasons.push(`${tag.unit} becomes ${m.unit}`)
    } else {
      total -= 30
      reasons.push(`${tag.unit} is not ${m.unit}`)
    }
  } else total += 8
  if (tag.dataType === m.dataType) total += 10
  else if (typeFits(tag.dataType, m.dataType)) total += 8
  else {
    total -= 25
    reasons.push(`${tag.dataType} is no ${m.dataType}`)
  }
  if (m.range && tag.range && tag.unit === m.unit) {
    const overlap = Math.min(m.range.high, tag.range.high) - Math.max(m.range.low, tag.range.low)
    const both = Math.max(m.range.high, tag.range.high) - Math.min(m.range.low, tag.range.low)
    if (overlap <= 0) {
      total -= 10
      reasons.push('ranges do not meet')
    } else {
      total += 5 * (overlap / both)
      reasons.push(`ranges overlap ${percent(overlap / both)}`)
    }
  }
  return { score: Math.max(0, Math.min(100, Math.round(total))), reasons }
}

/** The best tags for each member of these equipment that nothing fills yet; `each` of them at most. */
export function* propose(
  equipment: readonly Equipment[],
  resolver: Resolver,
  index: ProposalIndex,
  each = 1,
  least = 30,
): Generator<number, Proposal[]> {
  const out: Proposal[] = []
  const known = new Map<string, number>()
  for (let n = 0; n < equipment.length; n++) {
    if (n % 50 === 49) yield n
    const one = equipment[n]!
    const open = ownLeaves(resolver, one).filter((l) => l.binding === null)
    if (open.length === 0) continue
    const taken = new Set(Object.values(one.bindings).flatMap((b) => (b.kind === 'tag' ? [b.tagId] : [])))
    const candidates = index.of(one.name).filter((e) => !taken.has(e.tag.id))
    const found: Proposal[] = []
    const name = tokens(one.name)
    const places = candidates.map((e) => placeOf(name, e))
    for (const leaf of open)
      for (let i = 0; i < candidates.length; i++) {
        const e = candidates[i]!
        const member = memberOf(leaf, e, known)
        // Nothing else can bring it that far.
        if (45 * member + 30 * places[i]! + 30 < least) continue
        const s = score(leaf, e.tag, member, places[i]!)
        if (s.score >= least) found.push({ equipmentId: one.id, path: leaf.path, label: leaf.label, tagId: e.tag.id, ...s })
      }
    found.sort((a, b) => b.score - a.score)
    // The best pairs first, and with one proposal a member no tag is proposed twice.
    const count = new Map<string, number>()
    const used = new Set<string>()
    for (const p of found) {
      const had = count.get(p.path) ?? 0
      if (had >= each || (each === 1 && used.has(p.tagId))) continue
      count.set(p.path, had + 1)
      used.add(p.tagId)
      out.push(p)
    }
  }
  return out
}
