import { type CertificateFacts, type Credential, CredentialDraft } from '~/contract/credential'
import { FailureError, fail, invalid } from '~/contract/failure'
import type { FoundPiece, HandedOver, IntakeFinding, KeepHanded, Offer, TakenIn, WordRole } from '~/contract/intake'
import { certificateFacts } from '~/core/credential/certificate'
import { certificateFindings, kitFindings } from '~/core/credential/intake/checks'
import type { Thing, Word } from '~/core/credential/intake/found'
import type { Kit, Link } from '~/core/credential/intake/kits'
import { issuerName, nameOf } from '~/core/credential/intake/names'
import { roleWords } from '~/core/credential/intake/word-roles'
import type { NewCredential } from '~/store/credential'
import { examineCredential } from '../credentials'
import { type Taken, takeIn } from './take-in'

const LOGIN = 'log-in'
/** What is known, for who finds nothing of it. */
const KNOWN = 'a certificate begins with -----BEGIN CERTIFICATE-----, an address is like broker.example:8883'
const further: Record<Extract<Thing['kind'], 'request' | 'revocation' | 'public-key'>, [what: string, detail: string]> = {
  request: ['signing request', 'for an authority; it is of no use to a destination'],
  revocation: ['revocation list', 'says which certificates of its authority are taken back'],
  'public-key': ['public key', 'without a certificate it is of no use to a destination'],
}
const SECRET: readonly WordRole[] = ['password', 'token', 'shared-key', 'pass-phrase']

/** A word in the role that it was given, its own or a corrected one. */
interface Roled extends Word {
  id: string
}

function roled(taken: Taken, roles: HandedOver['roles']): Roled[] {
  return taken.words.map((w, i) => {
    const id = `word ${i + 1}`
    return { ...w, id, role: roles[id] ?? w.role }
  })
}

async function taken(handed: HandedOver): Promise<Taken> {
  const files = handed.files.map(({ name, content }) => ({ name, octets: new Uint8Array(Buffer.from(content, 'base64')) }))
  if (handed.text.trim() !== '') files.push({ name: 'pasted text', octets: new TextEncoder().encode(handed.text) })
  return takeIn(files, handed.phrases)
}

/** Says what was found in what was handed over, what speaks against it, and what of it can be kept. Keeps nothing, and tells nothing that is secret. */
export async function lookAt(handed: HandedOver, known: readonly Pick<Credential, 'id' | 'kind' | 'facts'>[], now: number): Promise<TakenIn> {
  const all = await taken(handed)
  const words = roled(all, handed.roles)
  const of = (role: WordRole) => words.find((w) => w.role === role)?.value ?? null
  const port = Number(of('port') ?? Number.NaN)
  return {
    pieces: pieces(all, words),
    findings: findings(all, now),
    offers: (await offered(all, words)).map(({ offer }) => ({
      ...offer,
      there: known.find((c) => c.kind === offer.kind && c.facts !== null && c.facts.sha256 === offer.facts?.sha256)?.id ?? null,
    })),
    address: { host: of('host'), port: Number.isInteger(port) ? port : null, scheme: of('scheme'), path: of('path'), identity: of('identity') },
    locked: all.locked.length > 0,
  }
}

/** What nobody knows may be secret: enough of it to know it again. */
const hinted = (value: string): string => (/\s/.test(value) || value.length < 6 ? value : `${value.slice(0, 2)}..., ${value.length} characters`)

function pieces({ sorted, locked, broken, further: rest, nothing }: Taken, words: readonly Roled[]): FoundPiece[] {
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
        const detail = SECRET.includes(w.role) ? `${w.value.length} characters` : w.role === 'other' ? hinted(w.value) : w.value
        return { id: w.id, from: w.from, what: roleWords[w.role], name: w.name, detail, role: w.role, state: w.role === 'other' ? 'left' : 'taken' }
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

const until = (l: Link) => `by ${issuerName(l.certificate)}, until ${l.certificate.notAfter.toISOString().slice(0, 10)}`

function findings({ sorted, links }: Taken, now: number): IntakeFinding[] {
  return [
    ...sorted.kits.flatMap((kit) => [
      ...certificateFindings(kit.own, 'client', now),
      ...kit.chain.flatMap((l) => certificateFindings(l, 'authority', now)),
      ...kitFindings(kit, links),
    ]),
    ...sorted.authorities.flatMap((l) => certificateFindings(l, 'authority', now)),
  ]
}

interface Kept {
  offer: Offer
  /** As somebody would have typed it, but for its name. */
  draft: object
}

async function offered({ sorted }: Taken, words: readonly Roled[]): Promise<Kept[]> {
  const kits = await Promise.all(sorted.kits.map((kit) => ofKit(kit)))
  const authorities = await Promise.all(sorted.authorities.map((l) => ofAuthority(l)))
  return [...kits, ...authorities, ...ofLogin(words)]
}

const pem = (links: readonly Link[]) => links.map((l) => `${l.certificate.toString('pem')}\n`).join('')

async function ofKit(kit: Kit): Promise<Kept> {
  const certificate = pem([kit.own, ...kit.chain])
  const facts = await certificateFacts(certificate)
  const offer: Offer = {
    id: idOf('certificate', facts),
    kind: 'certificate',
    name: nameOf(kit.own.certificate).slice(0, 80),
    facts,
    user: null,
    there: null,
  }
  return { offer, draft: { kind: 'certificate', certificate, key: kit.key.pem } }
}

async function ofAuthority(l: Link): Promise<Kept> {
  const certificate = pem([l])
  const facts = await certificateFacts(certificate)
  const offer: Offer = { id: idOf('authority', facts), kind: 'authority', name: nameOf(l.certificate).slice(0, 80), facts, user: null, there: null }
  return { offer, draft: { kind: 'authority', certificate } }
}

const idOf = (kind: string, facts: CertificateFacts) => `${kind} ${facts.sha256.slice(0, 24)}`

/** A log-in, where a password or a token is there; whoever has no user name is known by the client id. */
function ofLogin(words: readonly Roled[]): Kept[] {
  const first = (...roles: WordRole[]) => roles.map((role) => words.find((w) => w.role === role)?.value).find((value) => value !== undefined)
  const secret = first('password', 'token')
  const user = first('user', 'identity')
  if (secret === undefined || user === undefined) return []
  const host = first('host')
  const name = (host === undefined ? user : `${user} at ${host}`).slice(0, 80)
  const offer: Offer = { id: LOGIN, kind: 'password', name, facts: null, user, there: null }
  return [{ offer, draft: { kind: 'password', user, password: secret } }]
}

/** What is to be kept of what was handed over, by the same rules as what is typed: all of it, or a failure that says what is wrong. */
export async function toKeep(handed: KeepHanded): Promise<NewCredential[]> {
  const all = await taken(handed)
  const offers = await offered(all, roled(all, handed.roles))
  return Promise.all(
    handed.keep.map(({ id, name }, i) => {
      const kept = offers.find(({ offer }) => offer.id === id)
      if (!kept)
        throw fail(
          422,
          'intake.gone',
          'What was to be kept is not among what was handed over',
          'Hand it over again, with its pass phrase',
          'credential',
        )
      if (handed.keep.some((other, at) => at < i && other.name === name)) {
        const fields = { [`keep.${i}.name`]: 'Another one has this name' }
        throw new FailureError(
          { code: 'intake.name', message: 'Two of them have one name', hint: 'Give each its own', where: 'credential', fields },
          422,
        )
      }
      const draft = CredentialDraft.safeParse({ ...kept.draft, name, places: handed.places })
      if (!draft.success) throw invalid(draft.error)
      return examineCredential(draft.data)
    }),
  )
}
