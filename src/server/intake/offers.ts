import { type CertificateFacts, type Credential, CredentialDraft } from '~/contract/credential'
import { FailureError, fail } from '~/contract/failure'
import { invalid } from '~/contract/failure-form'
import type { HandedOver, KeepHanded, Offer, TakenIn, WordRole } from '~/contract/intake'
import { certificateFacts } from '~/core/credential/certificate'
import type { Kit, Link } from '~/core/credential/intake/kits'
import { nameOf } from '~/core/credential/intake/names'
import { pemOf } from '~/core/credential/intake/pem'
import type { List } from '~/core/credential/intake/revoked'
import { tokenFacts } from '~/core/credential/intake/token'
import type { NewCredential } from '~/store/credential'
import { examineCredential } from '../credentials'
import { findings } from './findings'
import { handedFiles } from './handed'
import { pieces, type Roled, roled } from './pieces'
import { type Taken, takeIn } from './take-in'

const LOGIN = 'log-in'
const EVENTS_LOGIN = 'events log-in'

const taken = (handed: HandedOver): Promise<Taken> => takeIn(handedFiles(handed), handed.phrases)

/** Says what was found in what was handed over, what speaks against it, and what of it can be kept. Keeps nothing, and tells nothing that is secret. */
export async function lookAt(handed: HandedOver, known: readonly Pick<Credential, 'id' | 'kind' | 'facts'>[], now: number): Promise<TakenIn> {
  const all = await taken(handed)
  const words = roled(all, handed.roles)
  const of = (role: WordRole) => words.find((w) => w.role === role)?.value ?? null
  const port = Number(of('port') ?? Number.NaN)
  return {
    pieces: pieces(all, words),
    findings: await findings(all, words, now),
    offers: (await offered(all, words, handed.maker, now)).map(({ offer }) => ({ ...offer, there: known.find((c) => isSame(c, offer))?.id ?? null })),
    address: {
      host: of('host'),
      port: Number.isInteger(port) ? port : null,
      scheme: of('scheme'),
      path: of('path'),
      identity: of('identity'),
      events: of('events'),
      eventsTopic: of('events-topic'),
    },
    locked: all.locked.length > 0,
  }
}

/** Whether a credential is just what is offered: the same certificate, with the same revocation lists. */
function isSame({ kind, facts }: Pick<Credential, 'kind' | 'facts'>, offer: Offer): boolean {
  if (kind !== offer.kind || facts === null || facts.sha256 !== offer.facts?.sha256) return false
  return (offer.facts.lists ?? []).every((l) => facts.lists?.some((there) => there.issuer === l.issuer && there.until === l.until))
}

interface Kept {
  offer: Offer
  /** As somebody would have typed it, but for its name. */
  draft: object
}

async function offered({ sorted, links, lists }: Taken, words: readonly Roled[], maker: HandedOver['maker'], now: number): Promise<Kept[]> {
  const good = lists.filter(({ list }) => !list.nextUpdate || +list.nextUpdate > now)
  const kits = await Promise.all(sorted.kits.map((kit) => ofKit(kit)))
  const authorities = await Promise.all(sorted.authorities.map((l) => ofAuthority(l, listsUnder(l, good, links))))
  return [...kits, ...authorities, ...ofLogin(words), ...ofKey(words, maker), ...ofEvents(words)]
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
    endsAt: facts.notAfter,
    there: null,
  }
  return { offer, draft: { kind: 'certificate', certificate, key: kit.key.pem } }
}

/** The lists of an authority, and of those between that it signed: with one of them, all of a chain are asked for. */
function listsUnder(authority: Link, lists: readonly List[], links: readonly Link[]): List[] {
  const { subject } = authority.certificate
  const under = links.filter((l) => l.certificate.issuer === subject).map((l) => l.certificate.subject)
  return lists.filter(({ list }) => list.issuer === subject || under.includes(list.issuer))
}

async function ofAuthority(l: Link, lists: readonly List[]): Promise<Kept> {
  const certificate = pem([l]) + lists.map(({ der }) => pemOf('X509 CRL', der)).join('')
  const facts = await certificateFacts(certificate)
  const offer: Offer = {
    id: idOf('authority', facts),
    kind: 'authority',
    name: nameOf(l.certificate).slice(0, 80),
    facts,
    user: null,
    endsAt: facts.notAfter,
    there: null,
  }
  return { offer, draft: { kind: 'authority', certificate } }
}

const idOf = (kind: string, facts: CertificateFacts) => `${kind} ${facts.sha256.slice(0, 24)}`

/** A log-in, where a password or a token is there; whoever has no user name is known by the client id. */
function ofLogin(words: readonly Roled[]): Kept[] {
  const first = firstOf(words)
  const secret = first('password', 'token')
  const user = first('user', 'identity')
  if (secret === undefined || user === undefined) return []
  const host = first('host')
  const name = (host === undefined ? user : `${user} at ${host}`).slice(0, 80)
  const ends = tokenFacts(secret)?.endsAt ?? null
  const offer: Offer = {
    id: LOGIN,
    kind: 'password',
    name,
    facts: null,
    user,
    endsAt: ends === null ? null : new Date(ends).toISOString(),
    there: null,
  }
  return [{ offer, draft: { kind: 'password', user, password: secret } }]
}

type First = (...roles: WordRole[]) => string | undefined
const firstOf =
  (words: readonly Roled[]): First =>
  (...roles) =>
    roles.map((role) => words.find((w) => w.role === role)?.value).find((value) => value !== undefined)

/** A shared key, where it is known how tokens are made from it; a password or a token beside it says more. */
function ofKey(words: readonly Roled[], maker: HandedOver['maker']): Kept[] {
  const first = firstOf(words)
  const [key, identity] = [first('shared-key'), first('identity', 'user')]
  if (!maker || key === undefined || first('password', 'token') !== undefined) return []
  const host = first('host')
  const name = `Key of ${identity ?? 'a unit'}${host === undefined ? '' : ` at ${host}`}`.slice(0, 80)
  const offer: Offer = { id: LOGIN, kind: 'token', name, facts: null, user: maker.user === '' ? null : maker.user, endsAt: null, there: null }
  return [{ offer, draft: { kind: 'token', user: maker.user, recipe: maker.recipe, key } }]
}

/** The log-in by which the events can be read. */
function ofEvents(words: readonly Roled[]): Kept[] {
  const first = firstOf(words)
  const [user, password] = [first('events-user'), first('events-password')]
  if (user === undefined || password === undefined) return []
  const name = `${user}, for events${first('events') === undefined ? '' : ` at ${first('events')}`}`.slice(0, 80)
  const offer: Offer = { id: EVENTS_LOGIN, kind: 'password', name, facts: null, user, endsAt: null, there: null }
  return [{ offer, draft: { kind: 'password', user, password } }]
}

/** What is to be kept of what was handed over, by the same rules as what is typed: all of it, or a failure that says what is wrong. */
export async function toKeep(handed: KeepHanded, now = Date.now()): Promise<NewCredential[]> {
  const all = await taken(handed)
  const offers = await offered(all, roled(all, handed.roles), handed.maker, now)
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
      const draft = CredentialDraft.safeParse({ ...kept.draft, name, places: kept.offer.id === EVENTS_LOGIN ? [] : handed.places })
      if (!draft.success) throw invalid(draft.error)
      return examineCredential(draft.data)
    }),
  )
}
