import type { TokenRecipe } from '~/contract/token'
import { fillParts, parseTemplate } from '../../address/template'
import { own } from '../../value/own'

/** Of whom a token speaks, and where it goes. */
export interface TokenAbout {
  host: string
  port: number | null
  /** Under which name the other side knows the sender: its client id. */
  identity: string
}

/** When a token is good, epoch ms, and what no other token has. */
export interface TokenTimes {
  now: number
  ends: number
  random: string
}

const seconds = (ms: number): string => String(Math.floor(ms / 1000))

const standsFor: Record<string, (about: TokenAbout, times: TokenTimes) => string> = {
  host: ({ host }) => host,
  port: ({ port }) => (port === null ? '' : String(port)),
  identity: ({ identity }) => identity,
  now: (_, { now }) => seconds(now),
  ends: (_, { ends }) => seconds(ends),
  'now.ms': (_, { now }) => String(now),
  'ends.ms': (_, { ends }) => String(ends),
  'ends.iso': (_, { ends }) => new Date(ends).toISOString().replace(/\.\d+Z$/, 'Z'),
  random: (_, { random }) => random,
}
/** Times are numbers where they stand alone in a claim (RFC 7519 2, NumericDate). */
const NUMBERS = new Set(['now', 'ends', 'now.ms', 'ends.ms'])
const ALL = Object.keys(standsFor)
/** What stands in the user name: nothing that differs from token to token. */
const OF_USER = ['host', 'port', 'identity']

const list = (keys: readonly string[]) => keys.map((key) => `{${key}}`).join(' ')
const parsed = (template: string, keys: readonly string[]) => parseTemplate(template, (key) => keys.includes(key), list(keys))

const filled = (template: string, keys: readonly string[], value: (key: string) => string): string =>
  fillParts(parsed(template, keys).parts, value).text

/** What all placeholders of a token stand for. */
const standing = (about: TokenAbout, times: TokenTimes) => (key: string) => own(standsFor, key)?.(about, times) ?? ''

/** One claim of a recipe as it was written. */
interface ClaimLine {
  name: string
  template: string
  /** From 1. */
  line: number
}

/** Lines `name: template`; empty ones and those that begin with # count for nothing. */
function claimLines(text: string): { claims: ClaimLine[]; problem: string | null } {
  const claims: ClaimLine[] = []
  for (const [i, raw] of text.split(/\r?\n/).entries()) {
    const line = raw.trim()
    if (line === '' || line.startsWith('#')) continue
    const at = line.indexOf(':')
    if (at <= 0) return { claims, problem: `Line ${i + 1}: a claim is written name: value` }
    const name = line.slice(0, at).trim()
    if (claims.some((c) => c.name === name)) return { claims, problem: `Line ${i + 1}: ${name} stands there twice` }
    claims.push({ name, template: line.slice(at + 1).trim(), line: i + 1 })
  }
  return { claims, problem: null }
}

/** Without placeholders it may be a number, true, a list or an object in JSON; else it is text. */
function claimValue(template: string, value: (key: string) => string): unknown {
  const alone = /^\{([a-z.]+)\}$/.exec(template)?.[1]
  if (alone && NUMBERS.has(alone)) return Number(value(alone))
  const json = jsonIn(template)
  if (json !== undefined) return json
  return filled(template, ALL, value)
}

function jsonIn(text: string): unknown {
  if (!/^(?:[[{"]|-?\d|true$|false$|null$)/.test(text)) return undefined
  try {
    return JSON.parse(text)
  } catch {
    return undefined
  }
}

/** Header and claims of a JWT (RFC 7519). */
export function jwtParts(
  recipe: Extract<TokenRecipe, { form: 'jwt' }>,
  about: TokenAbout,
  times: TokenTimes,
): { header: { alg: string; typ: string; kid?: string }; claims: Record<string, unknown> } {
  const value = standing(about, times)
  const kid = filled(recipe.keyId, OF_USER, value)
  const claims = Object.fromEntries(claimLines(recipe.claims).claims.map(({ name, template }) => [name, claimValue(template, value)]))
  return { header: { alg: recipe.algorithm, typ: 'JWT', ...(kid !== '' && { kid }) }, claims }
}

/** The text that is signed. */
export const signedText = (recipe: Extract<TokenRecipe, { form: 'hmac' }>, about: TokenAbout, times: TokenTimes): string =>
  filled(recipe.signed, ALL, standing(about, times))

/** The token around its signature. */
export function tokenAround(recipe: Extract<TokenRecipe, { form: 'hmac' }>, about: TokenAbout, times: TokenTimes, signature: string): string {
  const value = standing(about, times)
  return filled(recipe.token, [...ALL, 'signature'], (key) => (key === 'signature' ? signature : value(key)))
}

/** The user name that goes with the token. */
export const userFor = (template: string, about: TokenAbout): string => filled(template, OF_USER, standing(about, { now: 0, ends: 0, random: '' }))

/** What cannot be used of a recipe and the template of its user, by field. */
export function recipeProblems(recipe: TokenRecipe, user: string): Record<string, string> {
  const out: Record<string, string> = {}
  const look = (field: string, template: string, keys: readonly string[], before = '') => {
    const [problem] = parsed(template, keys).problems
    if (problem) out[field] ??= `${before}${problem.message}`
  }
  look('user', user, OF_USER)
  if (recipe.form === 'hmac') {
    look('recipe.signed', recipe.signed, ALL)
    look('recipe.token', recipe.token, [...ALL, 'signature'])
    if (!/\{\s*signature\s*[|}]/.test(recipe.token)) out['recipe.token'] ??= '{signature} must stand in it'
    return out
  }
  look('recipe.keyId', recipe.keyId, OF_USER)
  const { claims, problem } = claimLines(recipe.claims)
  if (problem) out['recipe.claims'] = problem
  for (const { template, line } of claims) if (jsonIn(template) === undefined) look('recipe.claims', template, ALL, `Line ${line}: `)
  return out
}
