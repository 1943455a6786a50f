import type { Equipment, Level } from '~/contract/equipment'
import { fillParts, parseTemplate, type TemplatePart, type TemplateProblem } from '../address/template'
import { own } from '../value/own'
import { lineage } from './hierarchy'
import type { Leaf, Resolver } from './resolve'

const levels: Record<string, Level> = { enterprise: 'enterprise', site: 'site', area: 'area', centre: 'work centre', unit: 'work unit' }

/** What a naming pattern may say of an equipment and one of its members. */
export const namingKeys = ['name', 'alias', 'parent', 'class', 'member', 'key', 'i', ...Object.keys(levels)] as const

/** Words of a name in one form: `Gas_Flow`, `gasFlow` and `gas flow` are alike; slashes stay. */
export function plainName(name: string): string {
  // Octet by octet: a pattern over 10,000 equipment asks for this 120,000 times.
  let out = ''
  let space = false
  let lower = false
  for (let i = 0; i < name.length; i++) {
    const c = name.charCodeAt(i)
    const small = c >= 97 && c <= 122
    const large = c >= 65 && c <= 90
    if (small || (c >= 48 && c <= 57) || large) {
      if ((space || (large && lower)) && out !== '' && out.charCodeAt(out.length - 1) !== 47) out += ' '
      out += large ? String.fromCharCode(c + 32) : name[i]
      lower = small
      space = false
    } else if (c === 47) {
      out += '/'
      space = false
      lower = false
    } else if (c < 128) {
      space = true
      lower = false
    } else return plainOf(name)
  }
  return out
}

/** The same for names with letters beyond ASCII. */
function plainOf(name: string): string {
  return name
    .replace(/([a-z])([A-Z])/g, '$1 $2')
    .toLowerCase()
    .split('/')
    .map((p) => p.replace(/[^\p{L}\p{N}]+/gu, ' ').trim())
    .join('/')
}

export interface NamingPattern {
  parts: TemplatePart[]
  problems: TemplateProblem[]
}

/**
 * Reads a pattern for names of tags: placeholders, and `*` for anything: a template such as `{area}/{name}/{member}`.
 * It is compared without regard to capitals, spaces, dashes and underscores.
 */
export function parseNaming(pattern: string): NamingPattern {
  return parseTemplate(
    pattern,
    (k) => (namingKeys as readonly string[]).includes(k) || k.startsWith('fact.'),
    `${namingKeys.map((k) => `{${k}}`).join(' ')} {fact.x}`,
  )
}

/** Names of tags, ready for being asked. */
export class NameIndex {
  private readonly exact = new Map<string, string[]>()
  private readonly sorted: { name: string; id: string }[]
  private backwards: { name: string; id: string }[] | null = null

  constructor(tags: readonly { id: string; name: string }[]) {
    this.sorted = tags.map((t) => ({ name: plainName(t.name), id: t.id })).sort((a, b) => (a.name < b.name ? -1 : 1))
    for (const { name, id } of this.sorted) {
      const list = this.exact.get(name)
      if (list) list.push(id)
      else this.exact.set(name, [id])
    }
  }

  /** Ids of the tags that a filled pattern means. */
  find(filled: string): readonly string[] {
    if (!filled.includes('*')) return this.exact.get(plainName(filled)) ?? []
    const pieces = filled.split('*').map(plainName)
    const head = pieces[0]!
    const tail = pieces.at(-1)!
    const fits = (name: string) => {
      if (!name.startsWith(head)) return false
      let at = head.length
      for (const piece of pieces.slice(1, -1)) {
        const found = name.indexOf(piece, at)
        if (found < 0) return false
        at = found + piece.length
      }
      return name.endsWith(tail) && name.length - tail.length >= at
    }
    if (head === '' && tail !== '') {
      this.backwards ??= this.sorted.map((e) => ({ name: reversed(e.name), id: e.id })).sort((a, b) => (a.name < b.name ? -1 : 1))
      return within(this.backwards, reversed(tail))
        .filter((e) => fits(reversed(e.name)))
        .map((e) => e.id)
    }
    return within(this.sorted, head)
      .filter((e) => fits(e.name))
      .map((e) => e.id)
  }
}

const reversed = (s: string) => [...s].reverse().join('')

/** Those that begin with a text, out of sorted ones. */
function within<T extends { name: string }>(sorted: readonly T[], prefix: string): T[] {
  if (prefix === '') return [...sorted]
  let low = 0
  let high = sorted.length
  while (low < high) {
    const mid = (low + high) >>> 1
    if (sorted[mid]!.name < prefix) low = mid + 1
    else high = mid
  }
  const out: T[] = []
  for (let i = low; i < sorted.length && sorted[i]!.name.startsWith(prefix); i++) out.push(sorted[i]!)
  return out
}

/** What a pattern gives for one member of one equipment. */
export interface NamingHit {
  equipmentId: string
  path: string
  label: string
  /** The pattern filled in. */
  wanted: string
  /** Tags of that name: one is a hit, none a miss. */
  tagIds: readonly string[]
  /** Bound already, to the same tag or to something else. */
  bound: 'no' | 'same' | 'other'
}

/** Members of an equipment that are values and its own: what patterns and proposals are for. */
export const ownLeaves = (resolver: Resolver, one: Equipment): Leaf[] => resolver.leavesOf(one).filter((l) => l.owner.id === one.id && !l.byClass)

function meaning(key: string, one: Equipment, leaf: Leaf, line: readonly Equipment[], className: string): string {
  if (key.startsWith('fact.')) return String(own(one.facts, key.slice(5)) ?? '')
  switch (key) {
    case 'name':
      return one.name
    case 'alias':
      return one.alias || one.name
    case 'parent':
      return line.at(-2)?.name ?? ''
    case 'class':
      return className
    case 'member':
      return leaf.member.label
    case 'key':
      return leaf.member.key
    case 'i': {
      const place = leaf.keys.findLast((k) => typeof k === 'number')
      return typeof place === 'number' ? String(place + 1) : ''
    }
    default:
      return line.findLast((e) => e.level === levels[key])?.name ?? ''
  }
}

/** Looks up the tags of a pattern for members of many equipment; gives now and then how many are done. */
export function* matchNaming(
  pattern: NamingPattern,
  equipment: readonly Equipment[],
  resolver: Resolver,
  tags: NameIndex,
  only: (leaf: Leaf) => boolean = () => true,
): Generator<number, NamingHit[]> {
  const out: NamingHit[] = []
  const { equipment: byId, classes } = resolver.model
  for (let n = 0; n < equipment.length; n++) {
    if (n % 200 === 199) yield n
    const one = equipment[n]!
    const line = lineage(byId, one.id)
    const className = one.classId ? (classes.get(one.classId)?.name ?? '') : ''
    for (const leaf of ownLeaves(resolver, one)) {
      if (!only(leaf)) continue
      const { text, missing } = fillParts(pattern.parts, (k) => meaning(k, one, leaf, line, className))
      const tagIds = missing ? [] : tags.find(text)
      const bound =
        leaf.binding === null ? 'no' : leaf.binding.kind === 'tag' && tagIds.length === 1 && leaf.binding.tagId === tagIds[0] ? 'same' : 'other'
      out.push({ equipmentId: one.id, path: leaf.path, label: leaf.label, wanted: missing ? `{${missing}} is empty` : text, tagIds, bound })
    }
  }
  return out
}
