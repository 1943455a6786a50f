import { fail } from '~/contract/failure'
import { listAsides, removeAsides } from '~/store/aside'
import { addCredential, listCredentials, removeCredential } from '~/store/credential'
import { addDestination, changeDestination, listDestinations, removeDestination } from '~/store/destination'
import { addSource, changeSource, getSource, listSources, removeSource, sourceUse, switchSource } from '~/store/source'
import { database, secrets } from '../context'
import { examineCredential } from '../credentials'
import type { Handlers } from '../endpoint'
import { askEngine } from '../engine-client'

type Keys =
  | 'listSources'
  | 'addSource'
  | 'getSource'
  | 'changeSource'
  | 'removeSource'
  | 'checkSource'
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
  | 'removeAsides'
  | 'removeDestination'
  | 'checkDestination'
  | 'listCredentials'
  | 'addCredential'
  | 'removeCredential'

/** Passes the engine's steps on as they come. */
async function steps(path: string, body: unknown, signal: AbortSignal): Promise<Response> {
  const answer = await askEngine(path, { body, signal })
  return new Response(answer.body, { headers: { 'content-type': 'application/x-ndjson', 'cache-control': 'no-store' } })
}

async function application() {
  const own = (await listCredentials(database())).find((c) => c.kind === 'application')
  if (!own?.facts || !own.certificate)
    throw fail(503, 'application.none', 'Embrik has no certificate of its own yet', 'The engine makes it at its first start', 'engine')
  const { sha1, subject, notBefore, notAfter, names } = own.facts
  return { thumbprint: sha1, certificate: own.certificate, subject, uri: names.find((n) => n.startsWith('urn:')) ?? '', notBefore, notAfter }
}

export const configurationHandlers: Pick<Handlers, Keys> = {
  listSources: () => listSources(database()),
  addSource: ({ body }) => addSource(database(), secrets(), body),
  getSource: ({ params }) => getSource(database(), params.id!),
  changeSource: ({ params, body, query }) => changeSource(database(), secrets(), params.id!, body, query.version),
  removeSource: ({ params }) => removeSource(database(), params.id!),
  checkSource: ({ body, request }) => steps('/sources/check', body, request.signal),
  browseSource: async ({ params, body, request }) =>
    (await askEngine('/sources/browse', { body: { ...body, id: params.id }, signal: request.signal })).json(),
  sourceUse: ({ params }) => sourceUse(database(), params.id!),
  switchSource: ({ params, body }) => switchSource(database(), params.id!, body.enabled),
  restartSource: async ({ params }) => {
    await askEngine('/sources/restart', { body: { id: params.id } })
  },
  watchNodes: ({ params, body, request }) => steps('/sources/watch', { ...body, id: params.id }, request.signal),
  lookAtRegisters: ({ params, body, request }) => steps('/sources/registers', { ...body, id: params.id }, request.signal),
  listenOnTopics: ({ params, body, request }) => steps('/sources/listen', { ...body, id: params.id }, request.signal),
  discoverEndpoints: async ({ body, request }) => (await askEngine('/sources/endpoints', { body, signal: request.signal })).json(),
  renewApplication: async ({ body }) => {
    if ((await application()).thumbprint !== body.thumbprint.toLowerCase())
      throw fail(409, 'application.newer', 'Embrik has another certificate by now', 'Look at it again', 'engine')
    await askEngine('/application/renew', { body: {} })
    return application()
  },
  application,
  listDestinations: () => listDestinations(database()),
  addDestination: ({ body }) => addDestination(database(), body),
  changeDestination: ({ params, body, query }) => changeDestination(database(), params.id!, body, query.version),
  removeDestination: ({ params }) => removeDestination(database(), params.id!),
  listAsides: ({ params }) => listAsides(database(), params.id!),
  removeAsides: ({ params }) => removeAsides(database(), params.id!),
  checkDestination: ({ body, request }) => steps('/destinations/check', body, request.signal),
  listCredentials: () => listCredentials(database()),
  addCredential: async ({ body }) => addCredential(database(), secrets(), await examineCredential(body)),
  removeCredential: ({ params }) => removeCredential(database(), params.id!),
}
