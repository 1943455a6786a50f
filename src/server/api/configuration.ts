import type { Destination, DestinationDraft } from '~/contract/destination'
import { FailureError, fail } from '~/contract/failure'
import type { JournalPage, JournalWhole } from '~/contract/journal'
import type { OwnView } from '~/contract/own-view'
import type { Caller } from '~/contract/person'
import { allows } from '~/contract/role'
import type { Source } from '~/contract/source'
import type { WaitingMessages, WaitingWhole } from '~/contract/waiting'
import { kindOf } from '~/core/address/kinds'
import { destinationUses, sourceReach, sourceUses, type Use } from '~/core/credential/reach'
import { getAside, listAsides, removeAsides } from '~/store/aside'
import { addCredential, addCredentials, bindCredential, demandPlaces, listCredentials, removeCredential } from '~/store/credential'
import { addDestination, changeDestination, listDestinations, removeDestination } from '~/store/destination'
import { addEvents } from '~/store/event'
import { listIssued } from '~/store/issued'
import { setRenewal } from '~/store/renewal'
import { forgetBefore, putBack, replaceCredential } from '~/store/replacement'
import { addSource, changeSource, getSource, listSources, removeSource, sourceUse, switchSource } from '~/store/source'
import { database, secrets } from '../context'
import { examineCredential } from '../credentials'
import { endings } from '../endings'
import type { Handlers } from '../endpoint'
import { askEngine } from '../engine-client'
import { lookAt, toKeep } from '../intake/offers'
import { newAuthority, newCertificate, newRequest, takeAnswer, takeCertificateBack } from '../making'
import { newContent, replacementCheck } from '../replacement'
import { sendAgain } from '../send-again'
import { whileAllowed } from '../streams'
import { takeOut } from '../take-out'

type Keys =
  | 'listSources'
  | 'addSource'
  | 'getSource'
  | 'changeSource'
  | 'removeSource'
  | 'checkSource'
  | 'lookAtRows'
  | 'browseSource'
  | 'application'
  | 'sourceUse'
  | 'watchNodes'
  | 'discoverEndpoints'
  | 'renewApplication'
  | 'switchSource'
  | 'restartSource'
  | 'lookAtRegisters'
  | 'listenOnTopics'
  | 'listDestinations'
  | 'addDestination'
  | 'changeDestination'
  | 'listAsides'
  | 'lookWaiting'
  | 'openWaiting'
  | 'clearWaiting'
  | 'lookJournal'
  | 'openJournal'
  | 'readAside'
  | 'sendAside'
  | 'destinationOwnView'
  | 'removeAsides'
  | 'removeDestination'
  | 'checkDestination'
  | 'listCredentials'
  | 'addCredential'
  | 'removeCredential'
  | 'lookAtHanded'
  | 'keepHanded'
  | 'bindCredential'
  | 'renewCredential'
  | 'listEndings'
  | 'checkReplacement'
  | 'replaceCredential'
  | 'putBackCredential'
  | 'forgetBefore'
  | 'takeOutKey'
  | 'makeAuthority'
  | 'issueCertificate'
  | 'makeRequest'
  | 'answerRequest'
  | 'listIssued'
  | 'takeBackCertificate'

/** Passes the engine's steps on as they come. */
async function steps(path: string, body: unknown, { request, caller }: { request: Request; caller: Caller }): Promise<Response> {
  const answer = await askEngine(path, { body, signal: request.signal })
  return new Response(whileAllowed(answer.body!, request, caller), {
    headers: { 'content-type': 'application/x-ndjson', 'cache-control': 'no-store' },
  })
}

/** Whether whoever asks may have these log-ins sent there. */
const mayGoThere = (caller: Caller, uses: readonly Use[], binds: boolean) =>
  demandPlaces(database(), uses, { anywhere: allows(caller.role, 'administrator'), binds })

/** A check hands a log-in over: it is told who had that done, and where to. */
async function checked(
  caller: Caller,
  where: 'source' | 'destination',
  draft: { id?: string | undefined; name: string },
  place: string | null,
): Promise<void> {
  await addEvents(database(), [
    {
      severity: 'note',
      where,
      subjectId: draft.id ?? null,
      subject: draft.name || `a new ${where}`,
      code: `${where}.checked`,
      message: `checked by ${caller.name}${place === null ? '' : ` at ${place}`}`,
      hint: '',
    },
  ])
}

async function application() {
  const own = (await listCredentials(database())).find((c) => c.kind === 'application')
  if (!own?.facts || !own.certificate)
    throw fail(503, 'application.none', 'Embrik has no certificate of its own yet', 'The engine makes it at its first start', 'engine')
  const { sha1, subject, notBefore, notAfter, names } = own.facts
  return { thumbprint: sha1, certificate: own.certificate, subject, uri: names.find((n) => n.startsWith('urn:')) ?? '', notBefore, notAfter }
}

/** Refuses settings that their schema lets through and that mean nothing, by field. */
function demandSound({ kind, settings }: Pick<DestinationDraft, 'kind' | 'settings'>): void {
  const fields = kindOf({ kind }).settingsProblems?.(settings) ?? {}
  const [first] = Object.values(fields)
  if (first === undefined) return
  throw new FailureError({ code: 'destination.settings', message: first, hint: 'Correct the settings', where: 'destination', fields }, 422)
}

export const configurationHandlers: Pick<Handlers, Keys> = {
  listSources: () => listSources(database()),
  addSource: async ({ body, caller }) => {
    await mayGoThere(caller, sourceUses(body), true)
    return addSource(database(), secrets(), body)
  },
  getSource: ({ params }) => getSource(database(), params.id!),
  changeSource: async ({ params, body, query, caller }) => {
    await mayGoThere(caller, sourceUses(body), true)
    return changeSource(database(), secrets(), params.id!, body, query.version)
  },
  removeSource: ({ params }) => removeSource(database(), params.id!),
  checkSource: async ({ body, request, caller }) => {
    await mayGoThere(caller, sourceUses(body), false)
    const answer = await steps('/sources/check', body, { request, caller })
    await checked(caller, 'source', body, sourceReach(body))
    return answer
  },
  lookAtRows: async ({ params, body, request }) =>
    (await askEngine('/sources/rows', { body: { ...body, id: params.id }, signal: request.signal })).json(),
  browseSource: async ({ params, body, request }) =>
    (await askEngine('/sources/browse', { body: { ...body, id: params.id }, signal: request.signal })).json(),
  sourceUse: ({ params }) => sourceUse(database(), params.id!),
  switchSource: ({ params, body }) => switchSource(database(), params.id!, body.enabled),
  restartSource: async ({ params }) => {
    await askEngine('/sources/restart', { body: { id: params.id } })
  },
  watchNodes: ({ params, body, ...who }) => steps('/sources/watch', { ...body, id: params.id }, who),
  lookAtRegisters: ({ params, body, ...who }) => steps('/sources/registers', { ...body, id: params.id }, who),
  listenOnTopics: ({ params, body, ...who }) => steps('/sources/listen', { ...body, id: params.id }, who),
  discoverEndpoints: async ({ body, request }) => (await askEngine('/sources/endpoints', { body, signal: request.signal })).json(),
  renewApplication: async ({ body }) => {
    if ((await application()).thumbprint !== body.thumbprint.toLowerCase())
      throw fail(409, 'application.newer', 'Embrik has another certificate by now', 'Look at it again', 'engine')
    await askEngine('/application/renew', { body: {} })
    return application()
  },
  application,
  listDestinations: () => listDestinations(database()),
  addDestination: async ({ body, caller }) => {
    demandSound(body)
    await mayGoThere(caller, destinationUses(body), true)
    return addDestination(database(), body)
  },
  changeDestination: async ({ params, body, query, caller }) => {
    demandSound(body)
    await mayGoThere(caller, destinationUses(body), true)
    return changeDestination(database(), params.id!, body, query.version)
  },
  removeDestination: ({ params }) => removeDestination(database(), params.id!),
  listAsides: ({ params }) => listAsides(database(), params.id!),
  destinationOwnView: async ({ params, request }) => {
    const answer = await askEngine('/destinations/own-view', { body: { id: params.id }, signal: request.signal })
    return (await answer.json()) as OwnView
  },
  lookWaiting: async ({ params, query, request }) => {
    const answer = await askEngine('/outbox/list', { body: { destinationId: params.id, from: query.from }, signal: request.signal })
    return (await answer.json()) as WaitingMessages
  },
  openWaiting: async ({ params, request }) => {
    const body = { destinationId: params.id, delivery: Number(params.delivery), seq: Number(params.seq) }
    return (await (await askEngine('/outbox/open', { body, signal: request.signal })).json()) as WaitingWhole
  },
  clearWaiting: async ({ params, query: { publicationId, delivery, seq }, request }) => {
    const message = delivery !== undefined && seq !== undefined ? { message: { delivery, seq } } : {}
    const body = { destinationId: params.id, ...(publicationId !== undefined && { publicationId }), ...message }
    return (await (await askEngine('/outbox/clear', { body, signal: request.signal })).json()) as { cleared: number }
  },
  lookJournal: async ({ params, query, request }) => {
    const answer = await askEngine('/journal/list', { body: { destinationId: params.id, ...query }, signal: request.signal })
    return (await answer.json()) as JournalPage
  },
  openJournal: async ({ params, query, request }) => {
    const body = { destinationId: params.id, delivery: Number(params.delivery), seq: Number(params.seq), segment: query.segment ?? null }
    return (await (await askEngine('/journal/open', { body, signal: request.signal })).json()) as JournalWhole
  },
  readAside: async ({ params }) => (await getAside(database(), asideNumber(params.number))).aside,
  sendAside: ({ params, body, caller, request }) => sendAgain(asideNumber(params.number), body, caller.name, request.signal),
  removeAsides: ({ params }) => removeAsides(database(), params.id!),
  checkDestination: async ({ body, request, caller }) => {
    demandSound(body)
    await mayGoThere(caller, destinationUses(body), false)
    const answer = await steps('/destinations/check', body, { request, caller })
    await checked(caller, 'destination', body, kindOf(body).reached(body.settings).join(', '))
    return answer
  },
  listCredentials: () => listCredentials(database()),
  addCredential: async ({ body }) => addCredential(database(), secrets(), await examineCredential(body)),
  lookAtHanded: async ({ body }) => lookAt(body, await listCredentials(database()), Date.now()),
  keepHanded: async ({ body }) => addCredentials(database(), secrets(), await toKeep(body)),
  bindCredential: ({ params, body }) => bindCredential(database(), params.id!, body.places),
  renewCredential: ({ params, body }) => setRenewal(database(), params.id!, body.days),
  listEndings: ({ caller }) => endings(database(), { keys: allows(caller.role, 'administrator') }),
  checkReplacement: async ({ params, body, request, caller }) => {
    const { path, body: asked, of } = await replacementCheck(params.id!, body)
    const answer = await steps(path, asked, { request, caller })
    const place =
      body.use.kind === 'source'
        ? sourceReach(of as Source)
        : kindOf(of as Destination)
            .reached((of as Destination).settings)
            .join(', ')
    await checked(caller, body.use.kind, of, place)
    return answer
  },
  replaceCredential: async ({ params, body }) => replaceCredential(database(), secrets(), params.id!, await newContent(params.id!, body)),
  putBackCredential: ({ params }) => putBack(database(), params.id!),
  forgetBefore: ({ params }) => forgetBefore(database(), params.id!),
  makeAuthority: ({ body }) => newAuthority(body),
  issueCertificate: ({ body }) => newCertificate(body),
  makeRequest: ({ body }) => newRequest(body),
  answerRequest: ({ params, body }) => takeAnswer(params.id!, body),
  listIssued: ({ params }) => listIssued(database(), params.id!),
  takeBackCertificate: ({ params, body }) => takeCertificateBack(params.id!, body),
  takeOutKey: async ({ params, body, caller }) => {
    const { name, octets } = await takeOut(params.id!, body, caller)
    return new Response(new Uint8Array(octets), {
      headers: {
        'content-type': 'application/octet-stream',
        'cache-control': 'no-store',
        'content-disposition': `attachment; filename="${name}"`,
      },
    })
  },
  removeCredential: ({ params }) => removeCredential(database(), params.id!),
}

/** The number of a message that went aside; what is none is a message that is not there. */
const asideNumber = (text: string | undefined): number => (/^\d{1,15}$/.test(text ?? '') ? Number(text) : 0)
