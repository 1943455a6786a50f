import { fail } from '~/contract/failure'
import { FoundKind } from '~/contract/find'
import { allows } from '~/contract/role'
import { matching } from '~/core/equipment/rule'
import { asSent } from '~/core/publication/as-sent'
import { pickedFolders } from '~/core/publication/bare-tags'
import { withOwnSteps } from '~/core/publication/clauses'
import type { RegisteredSchema } from '~/core/publication/registered'
import { versionDifferences } from '~/core/publication/version-differences'
import { isFramed } from '~/core/shape/framed'
import { addClass, changeClass, classVersions, listClasses, removeClass } from '~/store/class'
import { wholeOf } from '~/store/clauses'
import { listEquipment, outlineEquipment } from '~/store/equipment'
import { addEquipment, changeEquipment, editEquipment, removeEquipment } from '~/store/equipment-edit'
import { findNamed } from '~/store/find'
import { freeze, freezeNumbered, loadWorld } from '~/store/freeze'
import { goBack, goLive, setRunning } from '~/store/going-live'
import { originsIn } from '~/store/origins'
import { frozen, getPublication, listPublications } from '~/store/publication'
import { addPublication, changePublication, removePublication } from '~/store/publication-edit'
import { listRecords } from '~/store/record'
import { listVersions } from '~/store/version'
import { database } from '../context'
import type { Handlers } from '../endpoint'
import { askEngine } from '../engine-client'
import { demandAccepted, preflight } from '../preflight'
import { sharedReading } from '../shared-reading'

type Keys =
  | 'find'
  | 'listClasses'
  | 'addClass'
  | 'changeClass'
  | 'removeClass'
  | 'classVersions'
  | 'listEquipment'
  | 'outlineEquipment'
  | 'matchingTags'
  | 'equipmentAsSent'
  | 'matchingEquipment'
  | 'editEquipment'
  | 'listRecords'
  | 'addEquipment'
  | 'changeEquipment'
  | 'removeEquipment'
  | 'listPublications'
  | 'addPublication'
  | 'changePublication'
  | 'removePublication'
  | 'previewPublication'
  | 'publicationContract'
  | 'publicationAsyncApi'
  | 'goLive'
  | 'preflight'
  | 'replayPublication'
  | 'budgetPublication'
  | 'sentByPublication'
  | 'sayPublication'
  | 'listVersions'
  | 'versionDifferences'
  | 'messageOrigins'
  | 'goBack'
  | 'pausePublication'
  | 'resumePublication'

/** The whole model, for what needs all of it. */
const readWorld = sharedReading(() => loadWorld(database()))

/** So many of the tags that are picked are told by their names. */
const TAGS_SHOWN = 5

/** Things of one kind that the finder shows. */
const FOUND_MAX = 12

export const modelHandlers: Pick<Handlers, Keys> = {
  find: ({ query, caller }) =>
    findNamed(database(), query.q, FOUND_MAX, new Set(FoundKind.options.filter((k) => k !== 'credential' || allows(caller.role, 'engineer')))),
  listClasses: () => listClasses(database()),
  addClass: ({ body, caller }) => addClass(database(), body, caller.name),
  changeClass: ({ params, body, caller, query }) => changeClass(database(), params.id!, body, caller.name, query.version),
  classVersions: ({ params }) => classVersions(database(), params.id!),
  removeClass: ({ params }) => removeClass(database(), params.id!),
  editEquipment: ({ body }) => editEquipment(database(), body),
  listRecords: () => listRecords(database()),
  listEquipment: () => listEquipment(database()),
  outlineEquipment: () => outlineEquipment(database()),
  matchingEquipment: async ({ body }) => {
    const world = await readWorld()
    return { ids: matching(body, world.equipment, world.classes) }
  },
  matchingTags: async ({ body }) => {
    const folders = pickedFolders(body, (await readWorld()).tags.values())
    const all = [...folders.values()].flat()
    return { tags: all.length, folders: folders.size, first: all.slice(0, TAGS_SHOWN).map((t) => t.name) }
  },
  equipmentAsSent: async ({ body }) => asSent(await readWorld(), body.ids, body),
  addEquipment: ({ body }) => addEquipment(database(), body),
  changeEquipment: ({ params, body }) => changeEquipment(database(), params.id!, body),
  removeEquipment: ({ params }) => removeEquipment(database(), params.id!),
  listPublications: () => listPublications(database()),
  addPublication: ({ body }) => addPublication(database(), body),
  changePublication: ({ params, body, query }) => changePublication(database(), params.id!, body, query.version),
  removePublication: ({ params }) => removePublication(database(), params.id!),
  previewPublication: async ({ body, request }) => (await askEngine('/publications/preview', { body, signal: request.signal })).json(),
  publicationContract: ({ params, request }) => contract(params.id!, 'contract', request.signal),
  publicationAsyncApi: ({ params, request }) => contract(params.id!, 'asyncapi', request.signal),
  goLive: async ({ params, body, caller, request }) => {
    await demandScripts(params.id!)
    const looked = await demandAccepted(params.id!, body.accepted, body.looked, request.signal)
    return goLive(database(), params.id!, caller.name, await numbered(params.id!), { ...body, looked })
  },
  budgetPublication: async ({ body, request }) => (await askEngine('/publications/budget', { body, signal: request.signal })).json(),
  sentByPublication: async ({ params, query, request }) =>
    (await askEngine('/publications/sent', { body: { ...query, publicationId: params.id }, signal: request.signal })).json(),
  replayPublication: async ({ params, body, request }) =>
    (await askEngine('/publications/replay', { body: { ...body, publicationId: params.id }, signal: request.signal })).json(),
  preflight: ({ body, request }) => preflight(body.ids, request.signal),
  listVersions: ({ params }) => listVersions(database(), params.id!),
  messageOrigins: async ({ params, query }) => {
    const number = Number(params.number)
    if (!Number.isInteger(number) || number < 1) throw fail(404, 'version.unknown', 'There is no such version', 'Refresh the list', 'publication')
    return originsIn(database(), await frozen(database(), params.id!, number), query.place)
  },
  versionDifferences: async ({ params, query }) => {
    const [before, after] = [await frozen(database(), params.id!, query.from), await frozen(database(), params.id!, query.to)]
    return versionDifferences(before, after)
  },
  goBack: ({ params, body, caller }) => goBack(database(), params.id!, body.number, caller!.name),
  sayPublication: ({ params, request }) => say(params.id!, request.signal),
  pausePublication: ({ params }) => setRunning(database(), params.id!, false),
  resumePublication: ({ params }) => setRunning(database(), params.id!, true),
}

/** Refuses a go-live with a script that is wrong as it is written. */
async function demandScripts(id: string): Promise<void> {
  const whole = (await wholeOf(database(), id)).filter((p) => !p.off)
  const scripts = whole.flatMap((p) =>
    (withOwnSteps(p).steps ?? []).flatMap((s, n) => (s.kind === 'script' ? [{ n, name: p.name, code: s.code }] : [])),
  )
  if (scripts.length === 0) return
  const answer = await askEngine('/publications/scripts', { body: { codes: scripts.map((s) => s.code) } })
  const { problems } = (await answer.json()) as { problems: (string | null)[] }
  const wrong = problems.findIndex((p) => p !== null)
  if (wrong >= 0)
    throw fail(
      409,
      'preflight.stops',
      `${whole.length > 1 ? `${scripts[wrong]!.name}: ` : ''}Step ${scripts[wrong]!.n + 1}, Script: ${problems[wrong]}`,
      'Correct the script, then go live again',
      'publication',
    )
}

/** How a publication and its clauses are frozen: where payloads begin with numbers of schemas, a registry has given them before. */
async function numbered(id: string): Promise<typeof freeze> {
  const registered = new Map<string, RegisteredSchema[]>()
  for (const p of await wholeOf(database(), id)) {
    if (p.off || !isFramed(p.shape)) continue
    registered.set(p.id, (await (await askEngine('/publications/schemas', { body: { publicationId: p.id } })).json()) as RegisteredSchema[])
  }
  return (p, tx) => {
    const schemas = registered.get(p.id)
    return schemas || isFramed(p.shape) ? freezeNumbered(p, tx, schemas ?? []) : freeze(p, tx)
  }
}

/** Has all clauses that run say how things are, once. */
async function say(id: string, signal: AbortSignal): Promise<{ messages: number }> {
  const [root, ...clauses] = await wholeOf(database(), id)
  let messages = 0
  if (root!.state !== 'live') throw fail(409, 'publication.still', 'It does not run', 'Go live, or resume it, first', 'publication')
  for (const p of [root!, ...clauses.filter((c) => c.state === 'live')]) {
    const answer = await askEngine('/publications/say', { body: { publicationId: p.id, version: p.liveVersion }, signal })
    messages += ((await answer.json()) as { messages: number }).messages
  }
  return { messages }
}

/** What receivers are given, as it is live or, when it is not, as it would be; the engine has the values for the example. */
async function contract(id: string, as: 'contract' | 'asyncapi', signal: AbortSignal): Promise<Record<string, unknown>> {
  const draft = await getPublication(database(), id)
  return (await askEngine('/publications/contract', { body: { draft, publicationId: id, as }, signal })).json() as Promise<Record<string, unknown>>
}
