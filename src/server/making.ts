import { createPrivateKey } from 'node:crypto'
import type { Credential } from '~/contract/credential'
import { FailureError, fail } from '~/contract/failure'
import type { HandedOver } from '~/contract/intake'
import type { IssueCertificate, MakeAuthority, MakeRequest, TakeBack } from '~/contract/make'
import { certificateFacts, readChain } from '~/core/credential/certificate'
import { sorted } from '~/core/credential/intake/kits'
import { pemOf } from '~/core/credential/intake/pem'
import { type Authority, IssueError, issue, makeAuthority, makeList, makeRequest } from '~/core/credential/make/issue'
import { addCredential, type OpenCredential, openCredential } from '~/store/credential'
import { addIssued, answerRequest, takeBack } from '~/store/issued'
import { database, secrets } from './context'
import { handedFiles } from './intake/handed'
import { opened } from './intake/keys'
import { takeIn } from './intake/take-in'

/** Makes an authority whose key is kept here, so that it can sign. */
export async function newAuthority(draft: MakeAuthority): Promise<Credential> {
  const { text, key } = await makeAuthority(draft, { key: draft.key, days: draft.days, now: Date.now() })
  const facts = await certificateFacts(text)
  return addCredential(database(), secrets(), { name: draft.name, kind: 'authority', certificate: text, facts, user: null, secret: key })
}

/** The authority with its key; refuses one that only trusts. */
async function signing(id: string): Promise<Authority> {
  const of: OpenCredential = await openCredential(database(), secrets(), id)
  if (of.kind !== 'authority' || !of.certificate || !of.secret)
    throw fail(
      409,
      'authority.no-key',
      'The key of this authority is not here: it cannot sign',
      'Choose one that was made here, or make one',
      'credential',
    )
  return { certificate: ownOf(of.certificate), key: of.secret }
}

/** Its certificate without what else is kept with it. */
const ownOf = (text: string): string => pemOf('CERTIFICATE', new Uint8Array(readChain(text)[0]!.rawData))

/** Makes a certificate with its key, signed by an authority of ours. */
export async function newCertificate(draft: IssueCertificate): Promise<Credential> {
  const authority = await signing(draft.authorityId)
  try {
    const { text, key, serial, notAfter } = await issue(authority, draft, { days: draft.days, now: Date.now() })
    const facts = await certificateFacts(text)
    const content = { name: draft.name, kind: 'certificate' as const, certificate: text, facts, user: null, secret: key }
    return addIssued(database(), secrets(), content, { authorityId: draft.authorityId, serial, subject: facts.subject, notAfter })
  } catch (e) {
    if (!(e instanceof IssueError)) throw e
    const { message, hint, field } = e
    throw new FailureError({ code: 'issue.refused', message, hint, where: 'credential', fields: { [field]: message } }, 422)
  }
}

/** Makes a signing request for somebody else's authority; its key is kept until the answer comes. */
export async function newRequest(draft: MakeRequest): Promise<Credential> {
  const { text, key } = await makeRequest(draft)
  const content = { name: draft.name, kind: 'request' as const, certificate: text, facts: null, user: draft.commonName, secret: key }
  return addCredential(database(), secrets(), content)
}

/** Takes in what somebody else's authority answered: the certificate to the key of the request, with its chain. */
export async function takeAnswer(id: string, handed: HandedOver): Promise<Credential> {
  const request = await openCredential(database(), secrets(), id)
  if (request.kind !== 'request' || !request.secret)
    throw fail(409, 'request.answered', 'This is no signing request any more', 'Refresh the list', 'credential')
  const { links } = await takeIn(handedFiles(handed), handed.phrases)
  const { kits } = await sorted(links, [opened(createPrivateKey(request.secret), 'the request')])
  const [kit] = kits
  if (!kit) {
    const message = links.length === 0 ? 'There is no certificate in it' : 'No certificate in it belongs to this request'
    throw fail(422, 'request.other', message, 'The answer holds the certificate to the key of this very request: was it another one?', 'credential')
  }
  const certificate = [kit.own, ...kit.chain].map((link) => pemOf('CERTIFICATE', link.der)).join('')
  return answerRequest(database(), id, { certificate, facts: await certificateFacts(certificate) })
}

/** Takes back a certificate that an authority of ours signed; what trusts that authority here refuses it from now on. */
export async function takeCertificateBack(id: string, what: TakeBack): Promise<Credential> {
  const authority = await signing(id)
  return takeBack(database(), id, what, async (all) => {
    const certificate = authority.certificate + (await makeList(authority, all, Date.now()))
    return { certificate, facts: await certificateFacts(certificate) }
  })
}
