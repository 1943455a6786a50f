import type { FoundPiece, HandedOver, WordRole } from '~/contract/intake'
import { dayOf } from '~/core/credential/intake/finding'
import type { Thing, Word } from '~/core/credential/intake/found'
import type { Link } from '~/core/credential/intake/kits'
import { issuerName, nameOf } from '~/core/credential/intake/names'
import { tokenFacts, tokenWords } from '~/core/credential/intake/token'
import { roleWords } from '~/core/credential/intake/word-roles'
import type { Taken } from './take-in'

/** What is known, for who finds nothing of it. */
const KNOWN = 'a certificate begins with -----BEGIN CERTIFICATE-----, an address is like broker.example:8883'
const further: Record<Extract<Thing['kind'], 'request' | 'public-key'>, [what: string, detail: string]> = {
  request: ['signing request', 'for an authority; it is of no use to a destination'],
  'public-key': ['public key', 'tells whether a token is signed by its key'],
}
const SECRET: readonly WordRole[] = ['password', 'token', 'shared-key', 'pass-phrase', 'events-password']

/** A word in the role that it was given, its own or a corrected one. */
export interface Roled extends Word {
  id: string
}

export function roled(taken: Taken, roles: HandedOver['roles']): Roled[] {
  return taken.words.map((w, i) => {
    const id = `word ${i + 1}`
    return { ...w, id, role: roles[id] ?? w.role }
  })
}

/** Of what is secret how long it is, and of a token what stands in it for everybody. */
function secretWords({ role, value }: Word): string {
  const token = role === 'token' ? tokenFacts(value) : null
  return token ? tokenWords(token) : `${value.length} characters`
}

/** What nobody knows may be secret: enough of it to know it again. */
const hinted = (value: string): string => (/\s/.test(value) || value.length < 6 ? value : `${value.slice(0, 2)}..., ${value.length} characters`)

/** Each piece that was found, and what it was taken for; nothing that is secret. */
export function pieces({ sorted, locked, broken, further: rest, lists, nothing }: Taken, words: readonly Roled[]): FoundPiece[] {
  const { kits, authorities, between, others, keys } = sorted
  const certificate = (l: Link, what: string, i: number, detail = until(l)): FoundPiece => ({
    ...{ id: `${what} ${i + 1}`, from: l.from, what, name: nameOf(l.certificate), detail, role: null, state: 'taken' },
  })
  const inChains = [...new Set(kits.flatMap((kit) => kit.chain))]
  return [
    ...kits.map((kit, i) => certificate(kit.own, 'certificate with its key', i, `${until(kit.own)}; its key from ${kit.key.from}`)),
    ...inChains.map((l, i) => certificate(l, 'link of the chain', i)),
    ...authorities.map((l, i) => certificate(l, 'authority', i)),
    ...between.map((l, i) => certificate(l, 'authority between', i)),
    ...others.map((l, i): FoundPiece => ({ ...certificate(l, 'certificate of somebody else', i), state: 'left' })),
    ...keys.map(
      (k, i): FoundPiece => ({
        id: `key ${i + 1}`,
        from: k.from,
        what: 'private key',
        name: '',
        detail: 'no certificate here belongs to it',
        role: null,
        state: 'left',
      }),
    ),
    ...words
      .filter((w) => w.role !== 'other' || w.name !== '')
      .map((w): FoundPiece => {
        const detail = SECRET.includes(w.role) ? secretWords(w) : w.role === 'other' ? hinted(w.value) : w.value
        return { id: w.id, from: w.from, what: roleWords[w.role], name: w.name, detail, role: w.role, state: w.role === 'other' ? 'left' : 'taken' }
      }),
    ...lists.map((l, i): FoundPiece => {
      const until = l.list.nextUpdate
      const detail = `of ${l.issuer}${until ? `, until ${dayOf(until)}` : ''}`
      return { id: `list ${i + 1}`, from: l.from, what: 'revocation list', name: l.issuer, detail, role: null, state: 'taken' }
    }),
    ...rest.map((t, i): FoundPiece => {
      const [what, detail] = further[t.kind as keyof typeof further]
      return { id: `further ${i + 1}`, from: t.from, what, name: '', detail, role: null, state: 'left' }
    }),
    ...locked.map((l, i): FoundPiece => {
      const detail = l.wrong ? 'none of the pass phrases opens it' : 'asks for a pass phrase'
      return {
        id: `locked ${i + 1}`,
        from: l.from,
        what: l.kind === 'store' ? 'store of keys' : 'private key',
        name: '',
        detail,
        role: null,
        state: 'locked',
      }
    }),
    ...broken.map(
      (b, i): FoundPiece => ({
        ...{ id: `broken ${i + 1}`, from: b.from, what: 'cannot be read', name: '', detail: `${b.why}. ${b.hint}`, role: null, state: 'broken' },
      }),
    ),
    ...nothing.map(
      (name, i): FoundPiece => ({
        ...{ id: `nothing ${i + 1}`, from: name, what: 'nothing of use', name: '', detail: KNOWN, role: null, state: 'left' },
      }),
    ),
  ]
}

const until = (l: Link) => `by ${issuerName(l.certificate)}, until ${dayOf(l.certificate.notAfter)}`
