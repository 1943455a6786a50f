import type { TopicRule } from '~/contract/addresses/text'
import type { Equipment, Level } from '~/contract/equipment'
import type { Resolved } from '~/contract/publication'
import { own } from '../value/own'
import { firstOf, wellFormed } from '../value/well-formed'
import { parseTemplate, type TemplatePart, type TemplateProblem, templateFilters, topicLevel } from './template'

/** What a placeholder stands for; `unit` and the like are the names at that level of the hierarchy. */
export const placeholders: Record<string, Level | 'name' | 'class' | 'path' | 'member' | 'tag'> = {
  enterprise: 'enterprise',
  site: 'site',
  area: 'area',
  centre: 'work centre',
  unit: 'work unit',
  path: 'path',
  name: 'name',
  class: 'class',
  member: 'member',
  tag: 'tag',
}
const times = ['year', 'month', 'day', 'hour', 'minute'] as const
type TimePart = (typeof times)[number]

/** How names become levels of a topic, in words. */
export const topicRules: Record<TopicRule, string> = {
  slug: 'small letters, digits and dashes: Lower Pit > lower-pit',
  dashes: 'as they are, dashes for spaces: Lower Pit > Lower-Pit',
  underscores: 'as they are, underscores for spaces: Lower Pit > Lower_Pit',
  'as-is': 'as they are, spaces too: Lower Pit',
}

/** A name as one level under a rule. `/ + #` and control characters, which MQTT 5 4.7 and 1.5.4 give a meaning or forbid, never stay. */
export function levelBy(rule: TopicRule, name: string): string {
  switch (rule) {
    case 'slug':
      return topicLevel(name)
    case 'dashes':
      return name.trim().replace(/[\s/+#\p{Cc}]+/gu, '-')
    case 'underscores':
      return name.trim().replace(/[\s/+#\p{Cc}]+/gu, '_')
    case 'as-is':
      return name.replace(/[/+#\p{Cc}]+/gu, '-')
  }
}

/** What levels are in a kind of address: what parts them, and how a name becomes one. */
export interface Levels {
  separator: string
  level(rule: TopicRule, name: string): string
}
export const topicLevels: Levels = { separator: '/', level: levelBy }

/** Whether there is such a placeholder. */
export function knownPlaceholder(key: string): boolean {
  return (
    Object.hasOwn(placeholders, key) ||
    /^(fact|external|value)\..+/.test(key) ||
    (key.startsWith('time.') && times.includes(key.slice(5) as TimePart))
  )
}
const LIST = `${Object.keys(placeholders)
  .map((k) => `{${k}}`)
  .join(' ')}, {fact.x} {external.x} {value.x} {time.year}`

/** Faults of a template for a place: unknown placeholders, unclosed braces, and what `bad` finds in the texts between them. */
export function placeProblems(template: string, bad: (text: string) => TemplateProblem | null): TemplateProblem[] {
  const { parts, problems } = parseTemplate(template, knownPlaceholder, LIST)
  const out = [...problems]
  let at = 0
  for (const p of parts) {
    if (typeof p !== 'string') {
      at = p.at
      continue
    }
    const from = template.indexOf(p, at)
    const found = bad(p)
    if (found) out.push({ at: from + found.at, message: found.message })
    at = from + p.length
  }
  return out
}

/** What may not stand in a topic over MQTT (5 4.7.3 and 1.5.4). */
function badInTopic(text: string): TemplateProblem | null {
  const wild = /[+#]/.exec(text)
  if (wild) return { at: wild.index, message: `${wild[0]} is a wildcard and may not stand in a topic` }
  // biome-ignore lint/suspicious/noControlCharactersInRegex: MQTT 5 1.5.4 forbids just these
  const control = /[\u0000-\u001f\u007f]/.exec(text)
  return control && { at: control.index, message: 'Control characters may not stand in a topic' }
}

/** Faults of a template for a topic of MQTT: also what belongs to the broker, and empty levels. */
export function templateProblems(template: string): TemplateProblem[] {
  const out = placeProblems(template, badInTopic)
  if (template.startsWith('$')) out.push({ at: 0, message: 'Topics that begin with $ belong to the broker' })
  // What stands in filters has no levels.
  const levels = partsOf(template)
    .map((p) => (typeof p === 'string' ? p : 'x'))
    .join('')
  if (levels.split('/').some((l) => l === ''))
    out.push({ at: Math.max(0, template.indexOf('//') + 1), message: 'An empty level: two slashes, or one at an end' })
  return out
}

/** A template of a place with its levels parted as in another kind of address. */
export function placeMoved(template: string, from: Levels, to: Levels): string {
  if (from.separator === to.separator) return template
  let at = 0
  let out = ''
  const level = (text: string) =>
    text
      .split(from.separator)
      .map((l) => (l === '' ? '' : to.level('as-is', l)))
      .join(to.separator)
  for (const [whole] of template.matchAll(/\{[^{}]*\}/g)) {
    const next = template.indexOf(whole, at)
    out += level(template.slice(at, next)) + whole
    at = next + whole.length
  }
  return out + level(template.slice(at))
}

/** Faults of a template for a key or a header: placeholders and braces. */
export const textProblems = (template: string): TemplateProblem[] => parseTemplate(template, knownPlaceholder, LIST).problems

/** Of what an address speaks. */
export interface AddressOf {
  /** From the top, its own last. */
  lineage: readonly (Pick<Equipment, 'name' | 'alias' | 'facts' | 'externalIds'> & {
    /** Empty: none of the plant. */
    level: Level | ''
  })[]
  className: string | null
  member?: string
  tag?: string
  /** Keys of members in their order, for `{value.x}`. */
  members?: readonly string[]
}

type NameAt = Pick<Equipment, 'name' | 'alias'>
/** Names that are shown outside. */
export const outsideName = (e: NameAt) => e.alias || e.name

function standsFor(key: string, of: AddressOf): string {
  const one = of.lineage.at(-1)
  if (key.startsWith('fact.')) return String(own(one?.facts, key.slice(5)) ?? '')
  if (key.startsWith('external.')) return own(one?.externalIds, key.slice(9)) ?? ''
  const what = own(placeholders, key)
  switch (what) {
    case 'name':
      return one ? outsideName(one) : ''
    case 'class':
      return of.className ?? ''
    case 'path':
      return of.lineage.map((e) => outsideName(e).replaceAll('/', '-')).join('/')
    case 'member':
      return of.member ?? ''
    case 'tag':
      return of.tag ?? ''
    default: {
      const at = of.lineage.findLast((n) => n.level === what)
      return at ? outsideName(at) : ''
    }
  }
}

const filtered = (text: string, filters: Extract<TemplatePart, object>['filters']) =>
  filters.reduce((t, f) => templateFilters[f.name]!.run(t, f.args), text)

/** A text under a rule; a path keeps its slashes, each level by itself. Filters of one's own take the rule's place. */
function ruled(
  text: string,
  key: string,
  filters: Extract<TemplatePart, object>['filters'],
  rule: TopicRule | null,
  { separator, level: levelOf }: Levels,
  note: (from: string, to: string) => void,
): string {
  if (rule === null) return filtered(text, filters)
  const by = filters.length > 0 ? 'as-is' : rule
  const one = (t: string) => {
    const level = levelOf(by, filtered(t, filters))
    if (level !== t && t !== '') note(t, level)
    return level
  }
  // Member keys nest by dots in payloads, by levels in topics.
  if (key === 'path' || key === 'tag')
    return text
      .split('/')
      .map(one)
      .filter((l) => l !== '')
      .join(separator)
  if (key === 'member')
    return text
      .split('.')
      .map((l) => (filters.length > 0 ? one(l) : levelOf('as-is', l)))
      .join(separator)
  return one(text)
}

const cut = new Map<string, readonly TemplatePart[]>()
/** The pieces of a template; thousands of messages have the same one. */
function partsOf(template: string): readonly TemplatePart[] {
  let parts = cut.get(template)
  if (!parts) {
    parts = parseTemplate(template, knownPlaceholder, LIST).parts
    if (cut.size >= 100) cut.clear()
    cut.set(template, parts)
  }
  return parts
}

/**
 * Fills a template for one message as far as is known before it has values. `rule` null: a key or header, in which names stay
 * as they are. `missing` names a placeholder that has nothing to stand for.
 */
export function resolveTemplate(
  template: string,
  of: AddressOf,
  rule: TopicRule | null,
  levels = topicLevels,
): { resolved: Resolved; missing: string | null; converted: [string, string][]; steering: number[] } {
  const parts = partsOf(template)
  let missing: string | null = null
  const converted: [string, string][] = []
  const steering: number[] = []
  const out: Exclude<Resolved, string> = []
  const add = (text: string) => {
    const last = out.length - 1
    if (typeof out[last] === 'string') out[last] += text
    else out.push(text)
  }
  for (const p of parts) {
    if (typeof p === 'string') add(p)
    else if (p.key.startsWith('time.')) out.push({ take: 'time', part: p.key.slice(5) as TimePart, filters: p.filters, rule })
    else if (p.key.startsWith('value.')) {
      const member = of.members?.indexOf(p.key.slice(6)) ?? -1
      if (member < 0) missing ??= p.key
      else {
        steering.push(member)
        out.push({ take: 'value', member, filters: p.filters, rule })
      }
    } else {
      const text = ruled(standsFor(p.key, of), p.key, p.filters, rule, levels, (from, to) => converted.push([from, to]))
      if (text === '') missing ??= p.key
      add(text)
    }
  }
  const resolved = out.length === 0 ? '' : out.length === 1 && typeof out[0] === 'string' ? out[0] : out
  return { resolved, missing, converted, steering }
}

const two = (n: number) => (n < 10 ? `0${n}` : String(n))
function timePart(part: TimePart, at: number): string {
  const d = new Date(at)
  switch (part) {
    case 'year':
      return String(d.getUTCFullYear())
    case 'month':
      return two(d.getUTCMonth() + 1)
    case 'day':
      return two(d.getUTCDate())
    case 'hour':
      return two(d.getUTCHours())
    case 'minute':
      return two(d.getUTCMinutes())
  }
}

/** So many characters of a value go into a topic; the rest is left out. */
export const LEVEL_MAX = 200
/** The same for a key or a header. */
export const HEADER_MAX = 4000

/** Makes the writer of an address: with the values of a message and its time (UTC). A level without a value is `none`. */
export function addressWriter(resolved: Resolved, levels = topicLevels): string | ((value: (member: number) => unknown, at: number) => string) {
  if (typeof resolved === 'string') return resolved
  return (value, at) => {
    let out = ''
    for (const p of resolved) {
      if (typeof p === 'string') out += p
      else if (p.take === 'time') out += filtered(timePart(p.part!, at), p.filters)
      else {
        const v = value(p.member!)
        // A value may be a text of any length; topics and properties may not.
        const raw = v === null || v === undefined ? '' : firstOf(String(v), p.rule === null ? HEADER_MAX : LEVEL_MAX)
        const text = wellFormed(ruled(raw, '', p.filters, p.rule, levels, () => undefined))
        out += text === '' && p.rule !== null ? 'none' : text
      }
    }
    return out
  }
}

/** The narrowest topic filter that covers what a topic may become: levels that wait for values are +. */
export function filterOf(resolved: Resolved): string {
  if (typeof resolved === 'string') return resolved
  return resolved
    .map((p) => (typeof p === 'string' ? p : '\0'))
    .join('')
    .split('/')
    .map((l) => (l.includes('\0') ? '+' : l))
    .join('/')
}

/** A place for people: what waits for values stands as its placeholder. */
export const placeText = (resolved: Resolved, members: readonly string[] = []): string =>
  typeof resolved === 'string'
    ? resolved
    : resolved.map((p) => (typeof p === 'string' ? p : p.take === 'time' ? `{time.${p.part}}` : `{value.${members[p.member!] ?? p.member}}`)).join('')
