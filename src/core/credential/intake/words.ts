import type { WordRole } from '~/contract/intake'
import type { Word } from './found'
import { roleOf } from './word-roles'

/** Longer lines are no settings that somebody wrote down. */
const LINE_MOST = 20_000
const NAME = /^\s{0,40}["']?([\p{L}][\p{L}\p{N} _./-]{0,60}?)["']?\s{0,20}(?:[:=]|\t)\s{0,20}(\S.*)$/u
const URL_TEXT =
  /^([a-z][a-z0-9+.-]{1,20}):\/\/(?:([^\s:@/?#]{1,200})(?::([^\s@/?#]{0,500}))?@)?(\[[0-9a-f:.]{2,45}\]|[^\s:/?#[\]@,;"'<>]{1,253})(?::(\d{1,5}))?([/?#][^\s"'<>]*)?$/i
const HOST = /^(?:\[[0-9a-f:.]{2,45}\]|(?=.{1,253}$)[a-z0-9](?:[a-z0-9-]{0,62})(?:\.[a-z0-9-]{1,63})*)$/i
const HOST_PORT = /^(\[[0-9a-f:.]{2,45}\]|[a-z0-9][a-z0-9.-]{0,252}):(\d{1,5})$/i
const TOKEN = /^eyJ[A-Za-z0-9_-]{5,8000}\.[A-Za-z0-9_-]{2,8000}\.[A-Za-z0-9_-]{0,4000}$/
const BASE64 = /^[A-Za-z0-9+/_-]{15,}={0,2}$/

const unquoted = (text: string): string =>
  text
    .trim()
    .replace(/,$/, '')
    .replace(/^(["'])(.*)\1$/, '$2')
const isPort = (text: string): boolean => /^\d{1,5}$/.test(text) && Number(text) >= 1 && Number(text) <= 65_535

/** Settings in text, as people hand them over: a connection string, `name = value` lines, addresses and tokens anywhere in a letter. */
export const readWords = (text: string, from: string): Word[] =>
  text.split(/\r\n|\r|\n/).flatMap((line, i) => (line.length <= LINE_MOST ? ofLine(line, `${from}, line ${i + 1}`) : []))

/** The single values of a JSON text, each with the names that lead to it; null: it is none. */
export function jsonLeaves(text: string): [path: string, value: string][] | null {
  const trimmed = text.trim()
  if (!/^[[{]/.test(trimmed)) return null
  try {
    const all: [string, string][] = []
    leaves(JSON.parse(trimmed), '', (path, value) => all.push([path, value]))
    return all
  } catch {
    return null
  }
}

/** Each single value of a JSON text, with the names that lead to it. */
function leaves(value: unknown, path: string, tell: (path: string, value: string) => void, depth = 0): void {
  if (typeof value === 'string' || typeof value === 'number') return tell(path, String(value))
  if (typeof value !== 'object' || value === null || depth > 20) return
  for (const [name, inner] of Object.entries(value)) {
    const next = Array.isArray(value) ? path : path === '' ? name : `${path}.${name}`
    leaves(inner, next, tell, depth + 1)
  }
}

function ofLine(line: string, from: string): Word[] {
  const pairs = connectionPairs(line)
  if (pairs) return pairs.flatMap(([name, value]) => valued(name, value, from))
  // An address has a colon too.
  const whole = unquoted(line)
  if (URL_TEXT.test(whole) || HOST_PORT.test(whole)) return valued('', whole, from)
  const named = NAME.exec(line)
  if (named) {
    const words = valued(named[1]!, unquoted(named[2]!), from)
    if (words.some((w) => w.role !== 'other')) return words
  }
  const clauses = line.split(/[.,]\s+|\s{3,}/)
  if (clauses.length > 1) return clauses.flatMap((clause) => ofLine(clause, from))
  const alone = line.split(/[\s,;<>"'()]+/).flatMap((part) => loose(part.replace(/[.!?]$/, ''), from))
  return alone.length > 0 || !named ? alone : valued(named[1]!, unquoted(named[2]!), from)
}

/** `Name=value;Name=value`, two of them at least; null: it is no such line. */
function connectionPairs(line: string): [string, string][] | null {
  const parts = unquoted(line)
    .split(';')
    .filter((part) => part.trim() !== '')
  if (parts.length < 2) return null
  const pairs = parts.map((part): [string, string] | null => {
    const at = part.indexOf('=')
    const name = part.slice(0, at).trim()
    return at > 0 && /^[\p{L}][\p{L}\p{N} _.-]{0,60}$/u.test(name) ? [name, part.slice(at + 1).trim()] : null
  })
  return pairs.every((pair) => pair !== null) ? pairs : null
}

/** What stands in a letter without a name: only what can be nothing else. */
function loose(text: string, from: string): Word[] {
  if (TOKEN.test(text)) return [word('token', '', text, from)]
  if (URL_TEXT.test(text)) return address('', text, from)
  const hostPort = HOST_PORT.exec(text)
  if (hostPort && isPort(hostPort[2]!) && /[a-z]/i.test(hostPort[1]!)) return address('', text, from)
  return []
}

/** A value that has a name. */
export function valued(name: string, value: string, from: string): Word[] {
  const last = name.split('.').at(-1) ?? name
  let role = roleOf(last)
  if (value === '') return []
  const token = value.replace(/^bearer\s+/i, '')
  if (TOKEN.test(token)) return [word('token', name, token, from)]
  if (URL_TEXT.test(value) && role !== 'token' && role !== 'password') return address(name, value, from)
  if (role === 'other' || role === 'identity') {
    const bare = HOST_PORT.exec(value)
    if (role === 'other' && bare && isPort(bare[2]!) && /[.[]/.test(bare[1]!)) return address(name, value, from)
  }
  if (role === 'host') return HOST.test(value) || HOST_PORT.test(value) ? address(name, value, from) : [word('other', name, value, from)]
  if (role === 'port' && !isPort(value)) role = 'other'
  // A key that is none: where it lies, or what it is called.
  if (role === 'shared-key' && !BASE64.test(value)) role = 'other'
  if (role === 'token') return [word('token', name, token, from)]
  return [word(role, name, value, from)]
}

/** A host, and what stands with it: scheme, port, path, user and password. */
function address(name: string, text: string, from: string): Word[] {
  const url = URL_TEXT.exec(text)
  const short = HOST_PORT.exec(text)
  const [, scheme, user, password, host = short?.[1] ?? text, port = short?.[2], path] = url ?? []
  const parts: [WordRole, string | undefined][] = [
    ['scheme', scheme?.toLowerCase()],
    ['host', host.replace(/^\[|\]$/g, '')],
    ['port', port !== undefined && isPort(port) ? port : undefined],
    ['path', path && path !== '/' ? path : undefined],
    ['user', user && decoded(user)],
    ['password', password && decoded(password)],
  ]
  return parts.flatMap(([role, value]) => (value ? [word(role, name, value, from)] : []))
}

function decoded(text: string): string {
  try {
    return decodeURIComponent(text)
  } catch {
    return text
  }
}

const word = (role: WordRole, name: string, value: string, from: string): Word => ({ kind: 'word', from, role, name, value })
