import { own } from '../value/own'

/** A text with placeholders: `Dryer {name|number|pad(2)}/{member}`. */
export type TemplatePart = string | { key: string; filters: { name: string; args: string[] }[]; at: number }

export interface TemplateProblem {
  message: string
  /** Offset of the first bad character. */
  at: number
}

/**
 * Makes a name fit one topic level: lower case, letters and digits kept, everything else (spaces, and the / + # that
 * MQTT 5 4.7 gives a meaning) one dash. `topicLevel('Lower Pit')` is `'lower-pit'`.
 */
export function topicLevel(name: string): string {
  return name
    .normalize('NFKD')
    .replace(/\p{M}/gu, '')
    .toLowerCase()
    .replace(/[^\p{L}\p{N}_.]+/gu, '-')
    .replace(/^-+|-+$/g, '')
}

/** So long may a text become in a filter: filters behind each other could else grow it without end. */
const FILLED_MAX = 65_536

/** Every `from` exchanged, until the text is as long as it may become. */
function replaced(text: string, [from, to]: readonly string[]): string {
  if (!from) return text
  const pieces = text.split(from, FILLED_MAX)
  let out = pieces[0]!
  for (let i = 1; i < pieces.length && out.length < FILLED_MAX; i++) out += to! + pieces[i]!
  return out.slice(0, FILLED_MAX)
}

const percentEncoded = (text: string): string =>
  encodeURIComponent(text.toWellFormed()).replace(/[!'()*]/g, (c) => `%${c.charCodeAt(0).toString(16).toUpperCase()}`)

/** What may follow a placeholder after a bar, with how many arguments, and what it is for. */
export const templateFilters: Record<string, { args: readonly [number, number]; help: string; run(value: string, args: readonly string[]): string }> =
  {
    lower: { args: [0, 0], help: 'in small letters', run: (v) => v.toLowerCase() },
    upper: { args: [0, 0], help: 'in capital letters', run: (v) => v.toUpperCase() },
    slug: { args: [0, 0], help: 'fit for one topic level: small letters, digits and dashes', run: topicLevel },
    replace: { args: [2, 2], help: "replace(' ', '_'): one text by another", run: replaced },
    default: { args: [1, 1], help: "default('none'): when there is nothing", run: (v, [d]) => (v === '' ? d! : v) },
    pad: { args: [1, 1], help: 'pad(2): with zeros in front to so many digits', run: (v, [n]) => v.padStart(Math.min(40, Number(n) || 0), '0') },
    number: { args: [0, 0], help: 'only the last number in it', run: (v) => v.match(/\d+/g)?.at(-1) ?? '' },
    url: { args: [0, 0], help: 'percent-encoded, as in addresses (RFC 3986 2.1)', run: percentEncoded },
    trim: { args: [0, 0], help: 'without spaces at its ends', run: (v) => v.trim() },
  }

const FILTER = /^\s*([A-Za-z]+)\s*(?:\(([^()]*)\))?\s*$/

function args(text: string): string[] {
  return [...text.matchAll(/\s*(?:'([^']*)'|"([^"]*)"|([^,]*?))\s*(?:,|$)/g)]
    .filter((m) => m[0] !== '')
    .map((m) => m[1] ?? m[2] ?? m[3] ?? '')
    .slice(0, 9)
}

/** Cuts a template into texts and placeholders; `known` says which there are, and `list` tells them. */
export function parseTemplate(
  template: string,
  known: (key: string) => boolean,
  list: string,
): { parts: TemplatePart[]; problems: TemplateProblem[] } {
  const parts: TemplatePart[] = []
  const problems: TemplateProblem[] = []
  let last = 0
  for (const m of template.matchAll(/\{([^{}]*)\}|[{}]/g)) {
    if (m.index > last) parts.push(template.slice(last, m.index))
    last = m.index + m[0].length
    if (m[1] === undefined) {
      problems.push({ at: m.index, message: `A lone ${m[0]}: placeholders are written {name}` })
      continue
    }
    const [key, ...rest] = m[1].split(/\|(?![^()]*\))/)
    const name = key!.trim()
    if (!known(name)) problems.push({ at: m.index, message: `{${name}} is not known; there are ${list}` })
    const filters = rest.flatMap((text) => {
      const f = FILTER.exec(text)
      const filter = f ? own(templateFilters, f[1]!) : undefined
      if (!f || !filter) {
        problems.push({
          at: m.index,
          message: `${text.trim() ? `${text.trim()} is no filter` : 'A filter is missing after the bar'}; there are ${Object.keys(templateFilters).join(', ')}`,
        })
        return []
      }
      const given = f[2] === undefined ? [] : args(f[2])
      if (given.length < filter.args[0] || given.length > filter.args[1]) {
        problems.push({ at: m.index, message: `${f[1]} takes ${filter.args[0]} ${filter.args[0] === 1 ? 'argument' : 'arguments'}: ${filter.help}` })
        return []
      }
      return [{ name: f[1]!, args: given }]
    })
    parts.push({ key: name, filters, at: m.index })
  }
  if (last < template.length) parts.push(template.slice(last))
  return { parts, problems }
}

/** Fills in what each placeholder stands for; one that comes out empty is named in `missing`. */
export function fillParts(parts: readonly TemplatePart[], value: (key: string) => string): { text: string; missing: string | null } {
  let missing: string | null = null
  let text = ''
  for (const p of parts) {
    if (typeof p === 'string') {
      text += p
      continue
    }
    let v = value(p.key)
    for (const f of p.filters) v = templateFilters[f.name]!.run(v, f.args)
    if (v === '') missing ??= p.key
    text += v
  }
  return { text, missing }
}
