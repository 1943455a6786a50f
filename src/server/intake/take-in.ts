import { certificatesOf, derKind, derLength, derValues, roundsOf } from '~/core/credential/intake/der'
import type { Broken, Found, Thing, ThingKind, Word } from '~/core/credential/intake/found'
import { type Link, linkOf, type OpenKey, type Sorted, sorted } from '~/core/credential/intake/kits'
import { readPem } from '~/core/credential/intake/pem'
import { type List, listIn } from '~/core/credential/intake/revoked'
import { jsonLeaves, readWords, valued } from '~/core/credential/intake/words'
import { openKey } from './keys'
import { openStore, roundsOfStore } from './pkcs12'
import { isZip, KitError, unzip } from './zip'

/** A file, or text that was pasted. */
export interface Handed {
  name: string
  octets: Uint8Array
}

/** Something behind a pass phrase. */
export interface Locked {
  from: string
  kind: 'locked-key' | 'store'
  /** One was given, and does not fit. */
  wrong: boolean
}

/** All that was found in what was handed over. */
export interface Taken {
  sorted: Sorted
  /** Certificates in the order in which they stood. */
  links: Link[]
  words: Word[]
  locked: Locked[]
  broken: Broken[]
  /** Signing requests, public keys. */
  further: Thing[]
  /** Revocation lists that can be read. */
  lists: List[]
  /** Files in which nothing was found. */
  nothing: string[]
}

/** More of them are no kit that somebody hands over for one destination. */
const MOST = { certificates: 200, keys: 50, words: 300, broken: 100, lists: 20 }

/** Text larger than this is none that somebody hands over. */
const TEXT_MOST = 2 << 20

/** Takes in whatever was handed over, with pass phrases for what is locked: files, zips of them, pasted text. Nothing is kept. */
export async function takeIn(handed: readonly Handed[], phrases: readonly string[]): Promise<Taken> {
  const broken: Broken[] = []
  const nothing: string[] = []
  const found: Found[] = []
  for (const { name, octets } of await unpacked(handed, broken)) {
    const there = foundIn(name, octets)
    if (there.length === 0) nothing.push(name)
    found.push(...there)
  }
  const words = found.filter((f) => f.kind === 'word').slice(0, MOST.words)
  // A pass phrase may stand beside what it opens.
  const all = [...new Set([...phrases, ...words.filter((w) => w.role === 'pass-phrase' || w.role === 'password').map((w) => w.value)])]
  const { links, keys, locked, further, lists, useless } = await openAll(
    found.filter((f) => f.kind !== 'word' && f.kind !== 'broken'),
    all,
    phrases.length > 0,
  )
  broken.push(...found.filter((f) => f.kind === 'broken'), ...useless)
  const few = { links: links.slice(0, MOST.certificates), keys: keys.slice(0, MOST.keys) }
  if (links.length > few.links.length || keys.length > few.keys.length) {
    const why = `There are ${links.length} certificates and ${keys.length} keys: the first ${few.links.length} and ${few.keys.length} are looked at`
    broken.unshift({ kind: 'broken', from: 'all of it', why, hint: 'Hand over only those that are for this destination' })
  }
  return {
    sorted: await sorted(few.links, few.keys),
    links: few.links,
    words,
    locked: locked.slice(0, MOST.broken),
    broken: broken.slice(0, MOST.broken),
    further: further.slice(0, MOST.broken),
    lists: lists.slice(0, MOST.lists),
    nothing,
  }
}

async function unpacked(handed: readonly Handed[], broken: Broken[]): Promise<Handed[]> {
  const files: Handed[] = []
  for (const { name, octets } of handed) {
    if (!isZip(octets)) {
      files.push({ name, octets })
      continue
    }
    try {
      for (const inner of await unzip(octets)) files.push({ name: `${name}/${inner.name}`, octets: inner.octets })
    } catch (e) {
      if (!(e instanceof KitError)) throw e
      broken.push({ kind: 'broken', from: name, why: e.message, hint: e.hint })
    }
  }
  return files
}

/** What stands in one file. */
function foundIn(name: string, octets: Uint8Array): Found[] {
  if (isZip(octets)) return [{ kind: 'broken', from: name, why: 'This is a zip within a zip', hint: 'Unpack it and hand over its files' }]
  if (derLength(octets) !== null) {
    const things = derValues(octets).flatMap((der): Thing[] => {
      const kind = derKind(der)
      return kind ? [{ kind, from: name, der }] : []
    })
    if (things.length > 0) return things
  }
  if (octets.length > TEXT_MOST) return []
  const text = textOf(octets)
  if (text === null) return []
  return (
    jsonLeaves(text)?.flatMap(([path, value]) => thingsIn(value, `${name}, ${path}`) ?? valued(path, value, `${name}, ${path}`)) ??
    lettersIn(text, name)
  )
}

/** Things in a text, where it holds nothing else; null: it holds none. */
function thingsIn(text: string, from: string): Found[] | null {
  const bare = bareBase64(text)
  if (bare) return [{ ...bare, from }]
  return text.includes('-----BEGIN ') ? readPem(text, from).found : null
}

function lettersIn(text: string, from: string): Found[] {
  const bare = bareBase64(text)
  if (bare) return [{ ...bare, from }]
  const { found, rest } = readPem(text, from)
  return [...found, ...readWords(rest, from)]
}

/** Text in UTF-8, or in UTF-16 with its mark; null: it is none. */
function textOf(octets: Uint8Array): string | null {
  const wide = octets[0] === 0xff && octets[1] === 0xfe ? 'utf-16le' : octets[0] === 0xfe && octets[1] === 0xff ? 'utf-16be' : null
  if (wide) return new TextDecoder(wide).decode(octets)
  if (octets.subarray(0, 4096).includes(0)) return null
  return new TextDecoder('utf-8').decode(octets)
}

/** A thing in base64 without the lines that say what it is. */
function bareBase64(text: string): { kind: ThingKind; der: Uint8Array } | null {
  const compact = text.replace(/\s+/g, '')
  if (!/^MI[A-Za-z0-9+/]{40,}={0,2}$/.test(compact)) return null
  const der = new Uint8Array(Buffer.from(compact, 'base64'))
  const kind = derKind(der)
  return kind ? { kind, der } : null
}

interface Opened {
  links: Link[]
  keys: OpenKey[]
  locked: Locked[]
  further: Thing[]
  lists: List[]
  useless: Broken[]
}

/** Pass phrases are hashed so often at most for all that was handed over: a few seconds of work. */
const ROUNDS_MOST = 4_000_000

const NEW_ONE = 'Ask for it in another form, such as PEM'

async function openAll(things: readonly Thing[], phrases: readonly string[], given: boolean): Promise<Opened> {
  const all: Opened = { links: [], keys: [], locked: [], further: [], lists: [], useless: [] }
  const certificate = (der: Uint8Array, from: string) => {
    const link = linkOf(der, from)
    if (link) all.links.push(link)
    else all.useless.push({ kind: 'broken', from, why: 'This certificate cannot be read', hint: 'Ask for it again' })
  }
  let rounds = 0
  for (const thing of things) {
    const { kind, from } = thing
    const asked = kind === 'locked-key' ? roundsOf(thing.der) * phrases.length : kind === 'store' ? roundsOfStore(thing) * (phrases.length + 1) : 0
    // What is refused costs nothing; what is not is paid from what is left for all.
    if (rounds + asked > ROUNDS_MOST) {
      const why = 'It takes too long to open this: its pass phrase is to be hashed millions of times'
      all.useless.push({ kind: 'broken', from, why, hint: NEW_ONE })
      continue
    }
    rounds += asked
    if (kind === 'certificate') certificate(thing.der, from)
    else if (kind === 'chain') for (const der of certificatesOf(thing.der)) certificate(der, from)
    else if (kind === 'key' || kind === 'locked-key') {
      const opening = openKey(thing, phrases)
      if ('key' in opening) all.keys.push(opening.key)
      else if ('locked' in opening) all.locked.push({ from, kind: 'locked-key', wrong: given && opening.locked === 'wrong-phrase' })
      else all.useless.push({ kind: 'broken', from, why: opening.useless, hint: NEW_ONE })
    } else if (kind === 'store') {
      const store = await openStore(thing, phrases)
      if ('locked' in store) all.locked.push({ from, kind: 'store', wrong: given && store.locked === 'wrong-phrase' })
      else if ('useless' in store) all.useless.push({ kind: 'broken', from, why: store.useless, hint: NEW_ONE })
      else {
        all.keys.push(...store.keys)
        for (const der of store.certificates) certificate(der, from)
      }
    } else if (kind === 'revocation') {
      const list = listIn(thing.der, from)
      if (list) all.lists.push(list)
      else all.useless.push({ kind: 'broken', from, why: 'This revocation list cannot be read', hint: 'Ask for it again' })
    } else all.further.push(thing)
  }
  return all
}
